"""What a query says, before anybody asked which names there are."""

from __future__ import annotations

from dataclasses import dataclass

COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")
SCOPES = ("metric", "param", "label", "run", "plot")


@dataclass(frozen=True)
class Word:
    """One name or value as it was written; `at` is its column from 1. Quotes are taken off."""

    text: str
    at: int
    quoted: bool = False


@dataclass(frozen=True)
class ListValue:
    """A list as a value, `[1, 2]`."""

    items: tuple[Operand, ...]
    at: int


Operand = Word | ListValue


@dataclass(frozen=True)
class Subject:
    """What a test is about: `loss`, `param:loss`, `min(loss)`."""

    name: str
    at: int
    scope: str | None = None
    aggregate: str | None = None


@dataclass(frozen=True)
class Compare:
    """`subject = value` and its kind."""

    subject: Subject
    operator: str
    value: Operand


@dataclass(frozen=True)
class Between:
    """`subject in low..high`, both ends included."""

    subject: Subject
    low: Word
    high: Word


@dataclass(frozen=True)
class OneOf:
    """`subject in {a, b}`."""

    subject: Subject
    values: tuple[Operand, ...]


@dataclass(frozen=True)
class Like:
    """`subject like "ha?l*"`."""

    subject: Subject
    pattern: Word


@dataclass(frozen=True)
class IsNan:
    """`subject is nan`."""

    subject: Subject


@dataclass(frozen=True)
class Within:
    """`started within 7d`."""

    subject: Subject
    span: Word


@dataclass(frozen=True)
class Has:
    """`has plot:roc`."""

    subject: Subject


@dataclass(frozen=True)
class Used:
    """`used nights@3`."""

    reference: Word


# What is asked of a value: it compares with one or several others.
Comparing = Compare | Between | OneOf
Test = Comparing | Like | IsNan | Within | Has | Used


@dataclass(frozen=True)
class Not:
    """What does not hold."""

    part: Query


@dataclass(frozen=True)
class And:
    """All of the parts."""

    parts: tuple[Query, ...]


@dataclass(frozen=True)
class Or:
    """Any of the parts."""

    parts: tuple[Query, ...]


Query = Test | Not | And | Or
