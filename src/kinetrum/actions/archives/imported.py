"""What an import brought."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Imported:
    """What an import brought: references here by reference there; what was here already; what was said on the way."""

    source: str
    runs: dict[str, str] = field(default_factory=dict)
    versions: dict[str, str] = field(default_factory=dict)
    models: dict[str, str] = field(default_factory=dict)
    views: list[str] = field(default_factory=list)
    known: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
