"""Archives: what an import brought."""

from __future__ import annotations

from kinetrum.wire.base import Out


class Imported(Out):
    """References here by reference there; `known` were here already; `remarks` tell what is different here.

    `models` are versions of models; `views` are names of views that were saved.
    """

    source: str
    runs: dict[str, str]
    versions: dict[str, str]
    models: dict[str, str]
    views: list[str]
    known: list[str]
    remarks: list[str]
