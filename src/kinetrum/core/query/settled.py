"""A query whose names and values are settled: what it asks of which source, with typed operands."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Flag, auto
from typing import Literal

from kinetrum.core.base.refs import NameRef, RunRef, VersionRef
from kinetrum.core.base.values import Value


class Kinds(Flag):
    """Which kinds of values a key holds in the runs that are searched."""

    NUMBER = auto()
    TEXT = auto()
    SPECIAL = auto()  # true, false, null, NaN, lists

    @property
    def said(self) -> str:
        """In words."""
        names = {Kinds.NUMBER: "numbers", Kinds.TEXT: "texts", Kinds.SPECIAL: "true, false, null, NaN or lists"}
        words = [word for kind, word in names.items() if kind in self and (kind is not Kinds.SPECIAL or self == kind)]
        return " and ".join(words) or "nothing"


@dataclass(frozen=True)
class Key:
    """What stands for a key in a run; `aggregate` of a metric. Scope `field` holds commit and problem."""

    scope: Literal["value", "param", "label", "field"]
    name: str
    aggregate: str = "shown"


@dataclass(frozen=True)
class Field:
    """A field of the run itself."""

    name: str


Source = Key | Field


@dataclass(frozen=True)
class Equals:
    """The source has one of the readings; `negated`: it has a value, NaN excepted, that is none of them."""

    source: Source
    readings: tuple[Value, ...]
    negated: bool = False


@dataclass(frozen=True)
class Ordered:
    """The source is a number that stands so to another; of times, microseconds since 1970, of durations, seconds."""

    source: Source
    operator: Literal["<", "<=", ">", ">="]
    number: float | int


@dataclass(frozen=True)
class Inside:
    """The source lies in a range with both ends; `negated`: it has a value outside."""

    source: Source
    low: float | int
    high: float | int
    negated: bool = False


@dataclass(frozen=True)
class Matches:
    """The source is a text that a pattern of * and ? fits, upper and lower case alike."""

    source: Source
    pattern: str


@dataclass(frozen=True)
class Hexed:
    """The source, in hexadecimal digits, begins or ends with these."""

    source: Source
    digits: str
    negated: bool = False


@dataclass(frozen=True)
class Nan:
    """The source is NaN."""

    source: Key


@dataclass(frozen=True)
class Present:
    """The run has the source."""

    source: Source


@dataclass(frozen=True)
class HasPlot:
    """The run keeps a plot of that name or kind."""

    name: str


@dataclass(frozen=True)
class ChildOf:
    """The run's parent is the one that a reference names."""

    parent: RunRef
    negated: bool = False


@dataclass(frozen=True)
class UsedContent:
    """The run used a version, any version of an artifact, or content of a digest that begins so."""

    reference: VersionRef | NameRef | None
    digest: str | None


Settled = Equals | Ordered | Inside | Matches | Hexed | Nan | Present | HasPlot | ChildOf | UsedContent


@dataclass(frozen=True)
class Negation:
    """What does not hold: also where a run lacks what is tested."""

    part: Plan


@dataclass(frozen=True)
class All:
    """All parts hold."""

    parts: tuple[Plan, ...]


@dataclass(frozen=True)
class Any:
    """At least one part holds."""

    parts: tuple[Plan, ...]


Plan = Settled | Negation | All | Any
