"""What all types of the interface share."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, PlainSerializer


def _iso(moment: datetime) -> str:
    return moment.replace(tzinfo=None).isoformat(timespec="microseconds") + "Z"


Moment = Annotated[datetime, PlainSerializer(_iso, return_type=str)]
"""A moment in UTC, written as ISO 8601 with Z."""

JsonValue = Any
"""A typed value: number, text, true, false, null, list; NaN and infinities as {"float": "NaN"}."""

Id = Annotated[str, Field(min_length=36, max_length=36, description="UUID made by the client (version 7).")]
# Seconds and milliseconds of the years since 2001: as microseconds they lie in the first weeks of 1970.
_OTHER_UNITS = {"seconds": (10**9, 10**11), "milliseconds": (10**12, 10**13)}


def check_unit(time: int) -> int:
    """Return a time, unless it looks like one in seconds or milliseconds; raises ValueError that says so."""
    for unit, (least, beyond) in _OTHER_UNITS.items():
        if least <= time < beyond:
            raise ValueError(f"{time} looks like {unit}; times are whole microseconds since 1970, UTC")
    return time


PlainMicros = Annotated[int, Field(ge=0, lt=2**55, description="Microseconds since 1970, UTC.")]
Micros = Annotated[PlainMicros, AfterValidator(check_unit)]
Comment = Annotated[str, Field(max_length=4000)]


class Out(BaseModel):
    """A type of an answer."""

    model_config = ConfigDict(from_attributes=True)


class In(BaseModel):
    """A type of a request: unknown fields are refused."""

    model_config = ConfigDict(extra="forbid")


class Problem(Out):
    """RFC 9457: what went wrong, where, and what would be right."""

    type: str
    title: str
    status: int
    detail: str
    field: str | None = None
    column: int | None = None
