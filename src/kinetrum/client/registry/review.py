"""A review as data: what would change if a version took another's place."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING

from kinetrum.client.display.html import html_table
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


class Review(JsonObject):
    """A version beside another: `sentence`, `checks`, `on_data`, `misfits`, `packages`, `candidate`, `other`."""

    @property
    def sentence(self) -> str:
        """What would change, and whether the rules are met."""
        return str(self["sentence"])

    @property
    def unmet(self) -> list[answers.GateCheck]:
        """The gates that are not met."""
        return [check for check in self["checks"] if not check["met"]]

    def __repr__(self) -> str:
        return f"<Review: {self.sentence}>"

    def _repr_html_(self) -> str:
        rows = [["met" if check["met"] else "not met", check["asks"], check["found"]] for check in self["checks"]]
        return f"<p>{html.escape(self.sentence)}</p>" + html_table(["", "gate", "found"], rows)
