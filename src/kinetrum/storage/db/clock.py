"""The time as the records keep it: UTC with microseconds."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any


def now() -> datetime:
    """Return the present moment, as stored in DATETIME(6): UTC without a zone mark."""
    return datetime.now(UTC).replace(tzinfo=None)


def iso(moment: datetime | None) -> str | None:
    """Write a stored moment as ISO 8601 with Z."""
    return None if moment is None else moment.isoformat(timespec="microseconds") + "Z"


def from_micros(micros: int) -> datetime:
    """Turn microseconds since 1970 into a stored moment."""
    return datetime.fromtimestamp(micros // 1_000_000, UTC).replace(tzinfo=None, microsecond=micros % 1_000_000)


def to_micros(moment: datetime) -> int:
    """Turn a stored moment into microseconds since 1970."""
    delta = moment.replace(tzinfo=UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    return (delta.days * 86_400 + delta.seconds) * 1_000_000 + delta.microseconds


class _AsIso:
    """Tells a serialiser (by Pydantic's hook, a plain description) to write a moment as `iso` does."""

    def __get_pydantic_core_schema__(self, _source: Any, _handler: Any) -> dict[str, Any]:
        written = {"type": "function-plain", "function": iso, "return_schema": {"type": "str"}}
        return {"type": "datetime", "serialization": written}


Moment = Annotated[datetime, _AsIso()]
"""A stored moment; where it is sent it is written as ISO 8601 with Z."""
