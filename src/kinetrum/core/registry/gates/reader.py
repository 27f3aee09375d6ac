"""Reading one gate out of TOML: what is taken, and what is refused in a sentence."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from kinetrum.core.base.errors import InvalidInput

# Whether evidence must say on which data it was judged, by fingerprint; a gate may take any.
RECORDED_FINGERPRINT, ANY_FINGERPRINT = "recorded", "any"


class Reader:
    """What stands in TOML for one gate: its table, or the value of its key; `place` says where."""

    def __init__(self, value: Any, place: str) -> None:
        self.value, self.place = value, place
        self.table = dict(value) if isinstance(value, Mapping) else {}

    def text(self, key: str, example: str, needed: bool = True) -> str | None:
        """Take a text."""
        value = self.table.pop(key, None)
        if value is None and not needed:
            return None
        if not isinstance(value, str) or not value.strip():
            raise wrong(f"{self.place}.{key}", f"a text, as in {key} = {example!r}".replace("'", '"'))
        return value

    def fingerprint(self) -> str:
        """Take whether evidence without a data fingerprint counts."""
        value = self.table.pop("fingerprint", RECORDED_FINGERPRINT)
        if value not in {RECORDED_FINGERPRINT, ANY_FINGERPRINT}:
            raise wrong(f"{self.place}.fingerprint", f'"{RECORDED_FINGERPRINT}" or "{ANY_FINGERPRINT}"')
        return str(value)

    def number(self, key: str, low: float = -math.inf, high: float = math.inf) -> float | None:
        """Take a number between two bounds."""
        value = self.table.pop(key, None)
        if value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
            edges = (
                f" from {low:g} to {high:g}"
                if math.isfinite(high)
                else f", {low:g} or more"
                if math.isfinite(low)
                else ""
            )
            raise wrong(f"{self.place}.{key}", f"a number{edges}")
        return float(value)

    def end(self) -> None:
        """Refuse what no gate of this kind knows."""
        for key in self.table:
            raise wrong(f"{self.place}.{key}", "no key of this gate", said="is")

    def texts(self, wanted: str) -> tuple[str, ...]:
        """Return the value as a list of texts."""
        texts = self.value
        if not isinstance(texts, list) or not texts or not all(isinstance(one, str) and one.strip() for one in texts):
            raise wrong(self.place, wanted)
        return tuple(dict.fromkeys(texts))


def wrong(place: str, right: str, said: str = "must be") -> InvalidInput:
    """Return the error that says what is wrong in the gates, where, and what would be right."""
    return InvalidInput(f"In the gates, {place} {said} {right}.", field=f"gates.{place}")
