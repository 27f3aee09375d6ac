"""Settling a query: what each name is in the runs that are searched, and how each value is read there."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from typing import Protocol

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.refs import NameRef, RunRef, VersionRef, parse_ref
from kinetrum.core.base.values import Value
from kinetrum.core.compare.environment import CODE_STATES
from kinetrum.core.query import settled
from kinetrum.core.query.parse import QueryError, parse_query
from kinetrum.core.query.reading import moment_of, number_of, read_number, readings, seconds_of
from kinetrum.core.query.settled import Equals, Field, Hexed, Inside, Key, Kinds, Matches, Nan, Ordered, Present, Source
from kinetrum.core.query.syntax import (
    And,
    Between,
    Compare,
    Comparing,
    Has,
    IsNan,
    Like,
    Not,
    OneOf,
    Operand,
    Or,
    Query,
    Subject,
    Test,
    Used,
    Within,
    Word,
)

FIELDS = {
    "number": "number",
    "id": "hex",
    "name": "text",
    "status": "word",
    "author": "text",
    "host": "text",
    "started": "time",
    "ended": "time",
    "duration": "span",
    "commit": "hex",
    "code": "word",
    "parent": "run",
    "note": "text",
    "problem": "text",
    "project": "text",
    "experiment": "text",
    "replicates": "hex",
}
STATUSES = ("running", "finished", "failed", "stopped", "lost")
WORDS = {"status": STATUSES, "code": CODE_STATES}
STARS_LIMIT = 10
_DIGEST = re.compile(r"sha256:([0-9a-f]{8,64})\Z")
_HEX = re.compile(r"[0-9a-f-]{4,64}\Z")


class Catalogue(Protocol):
    """What the runs that are searched have."""

    def kinds(self, key: Key) -> Kinds | None:
        """Return which kinds of values a key holds, None where no run has it."""

    def is_metric(self, name: str) -> bool:
        """Tell whether a run has a metric of that name."""

    def has_plot(self, name: str) -> bool:
        """Tell whether a run keeps a plot of that name or kind."""

    def names(self) -> Sequence[str]:
        """Return names of parameters, values and labels, for nearest ones."""

    def now(self) -> int:
        """Return this moment in microseconds since 1970."""


class Settling:
    """Settles one query; `remarks` tells where a name could have meant something else."""

    def __init__(self, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self.remarks: list[str] = []

    def settle(self, query: Query) -> settled.Plan:
        """Return the plan of a query; raises QueryError with the column."""
        if isinstance(query, And | Or):
            parts = tuple(self.settle(part) for part in query.parts)
            return settled.All(parts) if isinstance(query, And) else settled.Any(parts)
        if isinstance(query, Not):
            return settled.Negation(self.settle(query.part))
        return self._test(query)

    def _test(self, test: Test) -> settled.Settled:
        if isinstance(test, Used):
            return _used(test.reference)
        if isinstance(test, Has) and test.subject.scope == "plot":
            return self._has_plot(test.subject)
        source = self.source(test.subject)
        if isinstance(test, Has):
            return Present(source)
        if isinstance(source, Field):
            return _of_field(test, source, FIELDS[source.name], self.catalogue.now())
        return self._of_key(test, source)

    def source(self, subject: Subject) -> Source:
        """Return what a name means: a run field, else a result or metric, else a parameter, else a label."""
        if subject.scope == "plot":
            raise QueryError(f"of a plot one can only ask whether it is there: has plot:{subject.name}.", subject.at)
        if subject.aggregate:
            return self._aggregated(subject)
        if subject.scope in {None, "run"} and subject.name in FIELDS:
            return Field(subject.name)
        scopes = {"metric": ("value",), "param": ("param",), "label": ("label",), "run": ()}.get(
            subject.scope or "", ("value", "param", "label")
        )
        keys = [Key(scope, subject.name) for scope in scopes]  # type: ignore[arg-type]
        keys_found = [key for key in keys if self.catalogue.kinds(key) is not None]
        if not keys_found:
            raise self._unknown(subject)
        if len(keys_found) > 1:
            called = [_called(key) for key in keys_found]
            self._remark(
                f"{subject.name} is {' and '.join(called)} here; {called[0]} is meant. Write "
                f"{keys_found[1].scope}:{subject.name} for the other."
            )
        return keys_found[0]

    def _aggregated(self, subject: Subject) -> Key:
        if subject.scope not in {None, "metric"} or not self.catalogue.is_metric(subject.name):
            if any(self.catalogue.kinds(key) is not None for key in _keys(subject.name)):
                raise QueryError(f"{subject.aggregate}(…) is of metrics; {subject.name!r} is none here.", subject.at)
            raise self._unknown(subject)
        return Key("value", subject.name, subject.aggregate or "shown")

    def _unknown(self, subject: Subject) -> QueryError:
        name = subject.name
        names = list(FIELDS) if subject.scope == "run" else [*self.catalogue.names(), *FIELDS]
        by_case = {known.lower(): known for known in names}
        near = [by_case[low] for low in _nearest(name.lower(), list(by_case))]
        if len(name) >= 3:
            near += [known for known in names if name.lower() in known.lower() and known not in near][: 3 - len(near)]
        hint = f" Nearest: {', '.join(near)}." if near else f" There are {', '.join(names[:8])} …"
        scope, colon, _ = name.partition(":")
        if colon and not near:
            hint = f" Unknown scope {scope!r}. Write metric:, param:, label:, run: or plot: before a key."
        elsewhere = [key for key in _keys(name) if subject.scope and self.catalogue.kinds(key) is not None]
        if elsewhere:
            hint = f" It is {_called(elsewhere[0])}: write {_WRITTEN[elsewhere[0].scope]}:{name}."
        what = {"metric": "a result or metric", "param": "a parameter", "label": "a label", "run": "a field of runs"}
        if subject.scope in what:
            return QueryError(f"{name!r} is not {what[subject.scope]} in the runs searched.{hint}", subject.at)
        return QueryError(f"none of the runs searched has {name!r}.{hint}", subject.at)

    def _remark(self, text: str) -> None:
        if text not in self.remarks:
            self.remarks.append(text)

    def _has_plot(self, subject: Subject) -> settled.HasPlot:
        if not self.catalogue.has_plot(subject.name):
            raise QueryError(f"no run searched keeps a plot of the name or kind {subject.name!r}.", subject.at)
        return settled.HasPlot(subject.name)

    def _of_key(self, test: Test, key: Key) -> settled.Settled:
        kinds = self.catalogue.kinds(key) or Kinds(0)
        if isinstance(test, IsNan):
            return Nan(key)
        if isinstance(test, OneOf):
            return Equals(key, tuple(value for each in test.values for value in _read(each, key, kinds, test.subject)))
        if isinstance(test, Like):
            _refuse_unless(Kinds.TEXT in kinds or Kinds.NUMBER not in kinds, test.subject, "like compares texts", kinds)
            return Matches(key, _pattern(test.pattern))
        if isinstance(test, Within):
            raise QueryError(f"within is asked of started and ended; {key.name!r} is {_called(key)}.", test.subject.at)
        if isinstance(test, Compare) and test.operator in {"=", "!="}:
            return Equals(key, _read(test.value, key, kinds, test.subject), test.operator == "!=")
        if isinstance(test, Compare | Between):
            return self._by_number(test, key, kinds)
        raise TypeError(type(test).__name__)

    def _by_number(self, test: Compare | Between, key: Key, kinds: Kinds) -> settled.Settled:
        words = "in a..b" if isinstance(test, Between) else test.operator
        fine = Kinds.NUMBER in kinds or Kinds.TEXT not in kinds
        _refuse_unless(fine, test.subject, f"{words} compares numbers", kinds)
        if isinstance(test, Between):
            return _range(key, number_of(test.low, key.name), number_of(test.high, key.name), test)
        return Ordered(key, test.operator, number_of(_word(test.value, test.subject), key.name))  # type: ignore[arg-type]


def settle(text: str, catalogue: Catalogue) -> tuple[settled.Plan | None, list[str]]:
    """Read and settle a query; returns its plan, None for every run, and remarks on what was meant."""
    query = parse_query(text)
    if query is None:
        return None, []
    settling = Settling(catalogue)
    return settling.settle(query), settling.remarks


_WRITTEN = {"value": "metric", "param": "param", "label": "label", "field": "run"}


def _keys(name: str) -> list[Key]:
    return [Key("value", name), Key("param", name), Key("label", name)]


def _called(key: Key) -> str:
    return {"value": "a result or metric", "param": "a parameter", "label": "a label"}[key.scope]


def _refuse_unless(fine: bool, subject: Subject, what: str, kinds: Kinds) -> None:
    if not fine:
        other = "=, != or in {…}" if Kinds.TEXT not in kinds else "=, !=, in {…} or like"
        raise QueryError(f"{what}; {subject.name!r} holds {kinds.said} here. Ask with {other}.", subject.at)


def _read(operand: Operand, key: Key, kinds: Kinds, subject: Subject) -> tuple[Value, ...]:
    """Read a value as every kind that the key holds."""
    number, text, special = readings(operand)
    values: list[Value] = []
    if number is not None and Kinds.NUMBER in kinds:
        values.append(number)
    if text is not None and Kinds.TEXT in kinds:
        values.append(text)
    if Kinds.SPECIAL in kinds or not kinds:
        values += special
    if not values:
        at = operand.at or subject.at
        if text is not None and text.lower() == "nan":
            raise QueryError(f"nothing equals NaN; ask {key.name} is nan.", at)
        if Kinds.NUMBER in kinds and text is not None and not special:
            raise QueryError(f"{key.name!r} holds {kinds.said} here; {text!r} cannot be one of them.", at)
        # No run holds such a value: a fair question, whose answer is none.
        return (number if number is not None else text, *special) if text is not None else tuple(special)
    return tuple(values)


def _nearest(name: str, known: Sequence[str]) -> list[str]:
    """Return the name that is nearest to another, and up to two that are nearly as near."""
    near = difflib.get_close_matches(name, known, 3, 0.5)
    likeness = {each: difflib.SequenceMatcher(None, each, name).ratio() for each in near}
    return [each for each in near if likeness[each] >= likeness[near[0]] - 0.25]


def _word(operand: Operand, subject: Subject) -> Word:
    if isinstance(operand, Word):
        return operand
    raise QueryError("a list is equal or not; it is not compared or matched.", subject.at)


def _pattern(word: Word) -> str:
    collapsed = re.sub(r"\*+", "*", word.text)
    if collapsed.count("*") > STARS_LIMIT:
        raise QueryError(f"the pattern has {collapsed.count('*')} stars; at most {STARS_LIMIT} are matched.", word.at)
    return collapsed


def _range(source: Source, low: float, high: float, test: Between) -> Inside:
    if low > high:
        raise QueryError(f"{test.low.text}..{test.high.text} holds nothing; write the lower end first.", test.low.at)
    return Inside(source, low, high)


def _used(word: Word) -> settled.UsedContent:
    digest = _DIGEST.match(word.text)
    if digest:
        return settled.UsedContent(None, digest[1])
    if word.text.startswith("sha256:"):
        raise QueryError("a digest is written as sha256: and at least 8 hexadecimal digits.", word.at)
    try:
        reference = parse_ref(word.text)
    except InvalidInput as error:
        raise QueryError(str(error), word.at) from None
    if isinstance(reference, RunRef) or getattr(reference, "path", None):
        raise QueryError(
            f"{word.text!r} names no artifact; write used nights, used nights@3 or used sha256:….", word.at
        )
    assert isinstance(reference, VersionRef | NameRef)
    return settled.UsedContent(reference, None)


def _of_field(test: Test, field: Field, kind: str, now: int) -> settled.Settled:
    if isinstance(test, IsNan):
        raise QueryError(
            f"{field.name} is never NaN; nan is asked of metrics, results and parameters.", test.subject.at
        )
    if isinstance(test, Within):
        if kind != "time":
            raise QueryError(f"within is asked of started and ended, not of {field.name}.", test.subject.at)
        return Ordered(field, ">=", now - int(seconds_of(test.span) * 1e6))
    if isinstance(test, Like) and kind not in {"text", "word"}:
        raise QueryError(f"like compares texts; {field.name} is none. Ask with = or !=.", test.subject.at)
    if isinstance(test, Like):
        return Matches(field, _pattern(test.pattern))
    assert isinstance(test, Comparing)
    return _FIELD_TESTS[kind](test, field)


def _of_text(test: Comparing, field: Field) -> settled.Settled:
    if isinstance(test, OneOf):
        return Equals(field, tuple(_field_text(_word(each, test.subject), field) for each in test.values))
    if isinstance(test, Compare) and test.operator in {"=", "!="}:
        text = _field_text(_word(test.value, test.subject), field)
        return Equals(field, (text,), test.operator == "!=")
    raise QueryError(f"{field.name} is a text; ask with =, !=, in {{…}} or like.", test.subject.at)


def _field_text(word: Word, field: Field) -> str:
    known = WORDS.get(field.name)
    if known is not None and word.text not in known:
        near = difflib.get_close_matches(word.text.lower(), known, 1, 0.4)
        hint = f" Nearest: {near[0]}." if near else ""
        what = "status" if field.name == "status" else "state of the code"
        raise QueryError(f"Unknown {what} {word.text!r}. Choose one of: {', '.join(known)}.{hint}", word.at)
    return word.text


def _of_number(test: Comparing, field: Field, read: Callable[[Word], float] | None = None) -> settled.Settled:
    reader = read or (lambda word: number_of(word, field.name))
    if isinstance(test, OneOf):
        return Equals(field, tuple(reader(_word(each, test.subject)) for each in test.values))
    if isinstance(test, Between):
        return _range(field, reader(test.low), reader(test.high), test)
    assert isinstance(test, Compare)
    number = reader(_word(test.value, test.subject))
    if test.operator in {"=", "!="}:
        return Equals(field, (number,), test.operator == "!=")
    return Ordered(field, test.operator, number)  # type: ignore[arg-type]


def _of_span(test: Comparing, field: Field) -> settled.Settled:
    return _of_number(test, field, seconds_of)


def _of_time(test: Comparing, field: Field) -> settled.Settled:
    if isinstance(test, OneOf):
        raise QueryError(f"{field.name} is a time; ask with < or >, in a..b, = a day, or within 7d.", test.subject.at)
    if isinstance(test, Between):
        return _range(field, moment_of(test.low)[0], moment_of(test.high)[1] - 1, test)
    assert isinstance(test, Compare)
    first, after = moment_of(_word(test.value, test.subject))
    if test.operator in {"=", "!="}:
        return Inside(field, first, after - 1, test.operator == "!=")
    # `> 2026-10-01` means after that day, `<= 2026-10-01` until its end.
    if test.operator in {">", ">="}:
        return Ordered(field, ">=", after if test.operator == ">" else first)
    return Ordered(field, "<", after if test.operator == "<=" else first)


def _of_hex(test: Comparing, field: Field) -> settled.Settled:
    if not isinstance(test, Compare) or test.operator not in {"=", "!="}:
        raise QueryError(f"{field.name} is asked with = or != and its first or last digits.", test.subject.at)
    word = _word(test.value, test.subject)
    digits = word.text.lower()
    if not _HEX.match(digits):
        raise QueryError(
            f"{word.text!r} cannot be a part of {field.name}; write 4 or more hexadecimal digits.", word.at
        )
    return Hexed(field, digits.replace("-", ""), test.operator == "!=")


def _of_run(test: Comparing, field: Field) -> settled.Settled:
    if not isinstance(test, Compare) or test.operator not in {"=", "!="}:
        raise QueryError("parent is asked with = or != and a run: parent = frost-alarm/42.", test.subject.at)
    word = _word(test.value, test.subject)
    if read_number(word.text) is None:
        try:
            reference = parse_ref(word.text)
        except InvalidInput as error:
            raise QueryError(str(error), word.at) from None
        if isinstance(reference, RunRef) and reference.path is None:
            return settled.ChildOf(reference, test.operator == "!=")
    raise QueryError(f"{word.text!r} names no run; write frost-alarm/42 or an id.", word.at)


_FIELD_TESTS: dict[str, Callable[[Comparing, Field], settled.Settled]] = {
    "number": _of_number,
    "hex": _of_hex,
    "text": _of_text,
    "word": _of_text,
    "time": _of_time,
    "span": _of_span,
    "run": _of_run,
}
