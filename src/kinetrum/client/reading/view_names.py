"""Saved views by their names, and columns as they are written."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.errors import NotFound

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


def view_named(session: Session, name: str, experiment: str | None = None) -> answers.SavedView:
    """Return a saved view by its name: one's own before the project's; raises NotFound with the names there are."""
    answer: list[answers.SavedView] = session.service.get(
        path_of("projects", session.project, "views"), **({"experiment": experiment} if experiment else {})
    )
    for view in sorted(answer, key=lambda each: each["shared"]):
        if view["name"] == name:
            return view
    known = ", ".join(repr(view["name"]) for view in answer[:12]) or "none"
    raise NotFound(f"{session.project} has no view {name!r}; it has {known}.", field="view")


def named_columns(text: str) -> list[str]:
    """Return the columns that a comma-separated text names; commas within quotes do not part."""
    import re

    return [part.strip() for part in re.findall(r"""(?:[^,"']|"[^"]*"|'[^']*')+""", text) if part.strip()]
