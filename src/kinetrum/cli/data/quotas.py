"""How much of its quota a project has taken, in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from kinetrum.cli import output


def quota_lines(quota: Mapping[str, Any], usage: Mapping[str, Any]) -> list[str]:
    """Say how much of its quota a project has taken, a line for each bound."""
    lines = []
    if quota["size_bytes"] is not None:
        taken = output.size_text(usage["size_bytes"])
        lines.append(f"Stored: {taken} of {output.size_text(quota['size_bytes'])}.")
    for what, bound in (("runs", quota["runs_a_day"]), ("points", quota["points_a_day"])):
        if bound is not None:
            lines.append(f"{what.capitalize()} counted today: {usage[f'{what}_today']:,} of {bound:,}.")
    return lines
