"""Comparing from Python: runs side by side, beyond noise or not, why, and what moves a value over an experiment."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import TYPE_CHECKING, cast

from kinetrum.client.display.html import html_table, text_table
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import JsonObject, Value, from_json, show
from kinetrum.core.text.numbers import signed

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

_LINES = 20


class Comparison(JsonObject):
    """The comparison that the console shows, as data: `headline`, `settings`, `inputs`, `surroundings`, `outcomes`.

    Of runs with replicates the values are means; `spreads` has their spread, `changes` each run's change against the
    baseline with `difference`: its interval, the probability that it is the higher, and whether it is `beyond` noise
    (None where that is unknown).
    """

    def __init__(self, session: Session, data: dict[str, object]) -> None:
        super().__init__(data)
        self._session = session

    @property
    def verdict(self) -> str:
        """The sentence that states it, with the line that says how it is known."""
        head = self["headline"]
        return f"{head['finding']}{head['rest']} {head['reason']}"

    @property
    def references(self) -> list[str]:
        """The runs compared; those that repeat one another stand as one."""
        return [run["reference"] for run in self["runs"]]

    def outcome(self, key: str) -> answers.ComparedOutcome:
        """Return what came out under a key; raises InvalidInput where it does not differ or no run has it."""
        for row in self["outcomes"]:
            if row["key"] == key:
                return cast("answers.ComparedOutcome", dict(row))
        raise InvalidInput(f"{key!r} does not differ between these runs, or none has it.", field="key")

    def reasons(self, on: str | None = None) -> list[answers.Reason]:
        """Return what differs between the first run and the baseline, by how likely it made the difference of a value.

        Each has `kind`, `name`, `weight` (0 to 1), `text` and `expected`, the difference that other runs show for it.
        Without `on` it is the first goal whose values differ.
        """
        left, right = self._two()
        answer = self._session.service.get(self._path("reasons"), run=[left, right], on=on)
        return list(answer["reasons"])

    def rows(self) -> list[answers.JudgedRows]:
        """Return how the first run and the baseline compare on the rows whose predictions both kept.

        `outcome` is better, worse, within noise or too few to tell; empty where they kept none under one name.
        """
        left, right = self._two()
        return list(self._session.service.get(self._path("rows"), run=[left, right]))

    def to_rows(self) -> list[dict[str, Value]]:
        """Return one flat dictionary for each key that differs: the values by run, the change, the verdict."""
        rows = []
        for row in self["outcomes"]:
            values = zip(self.references, row["values"], row["present"], strict=True)
            flat: dict[str, Value] = {"key": row["key"]}
            flat |= {reference: from_json(value) for reference, value, present in values if present}
            rows.append(flat | {"change": row["change"], "verdict": verdict_of(row, self._subject)})
        return rows

    def _two(self) -> tuple[str, str]:
        return self.references[self._subject], self.references[self["baseline"]]

    @property
    def _subject(self) -> int:
        return 0 if self["baseline"] else 1

    def _path(self, *parts: str) -> str:
        return path_of("projects", self._session.project, "comparison", *parts)

    def __repr__(self) -> str:
        more = " …" if len(self.references) > 6 else ""
        return f"<Comparison of {', '.join(self.references[:6])}{more}: {self.verdict}>"

    def _repr_html_(self) -> str:
        head = self["headline"]
        lines = (
            f"<p><b>{html.escape(head['finding'])}</b>{html.escape(head['rest'])}<br>{html.escape(head['reason'])}</p>"
        )
        settings = [[row["key"], *_shown(row)] for row in [*self["settings"], *self["inputs"]]]
        outcomes = [
            [
                row["key"],
                *_shown(row),
                "" if row["change"] is None else _change(row),
                verdict_of(row, self._subject),
            ]
            for row in self["outcomes"]
        ]
        names = self.references
        return (
            lines
            + html_table(["set differently", *names], settings)
            + html_table(["came out differently", *names, "change", ""], outcomes)
        )


def _change(row: answers.ComparedOutcome) -> str:
    unit = row["goal"]["unit"] if row["goal"] else None
    return signed(row["change"] or 0.0) + (f" {unit}" if unit else "")


def _shown(row: answers.ComparedOutcome) -> list[str]:
    spreads = row.get("spreads") or [None] * len(row["values"])
    cells = []
    for value, present, spread in zip(row["values"], row["present"], spreads, strict=True):
        text = show(from_json(value)) if present else "–"
        cells.append(f"{text} ± {spread['deviation']:.2g} ({spread['runs']})" if spread else text)
    return cells


def verdict_of(row: answers.ComparedOutcome, subject: int) -> str:
    """Return better, worse, equal or within noise of the run spoken about; nothing where no number allows it."""
    change = row["changes"][subject]
    return "" if change is None else verdict_words(change)


def verdict_words(change: answers.OutcomeChange) -> str:
    """Say one change in words: by its goal and by whether it is more than noise."""
    beyond, verdict = change["difference"]["beyond"], change["verdict"]
    if beyond is False:
        return "within noise"
    if verdict == "equal" or change["change"] == 0:
        return "equal"
    return verdict or ("beyond noise" if beyond else "")


def compare(
    *refs: str | Sequence[str],
    project: str | None = None,
    baseline: int = 1,
    each: bool = False,
    url: str | None = None,
) -> Comparison:
    """Compare two to 100 runs with their replicates, as data: headline, settings and outcomes that differ.

    `refs` are references, or one list of them: `compare("frost-alarm/12", "frost-alarm/9")`. Changes are those of each
    run against the baseline. Runs with finished replicates stand for all of them; with `each` every run stands for
    itself.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    runs = [ref for group in refs for ref in ([group] if isinstance(group, str) else group)]
    session = open_session(project, url)
    answer: dict[str, object] = session.service.get(
        path_of("projects", session.project, "comparison"), run=runs, baseline=baseline, each=each
    )
    return Comparison(session, answer)


class Effects(JsonObject):
    """What moves a value over an experiment: `effects` by their share of variance, `interactions`, `sentence`."""

    def __repr__(self) -> str:
        rows = [[effect["factor"], f"{effect['share']:.0%}", effect["certainty"]] for effect in self["effects"]]
        text = f"<Effects: {self['sentence']}>"
        return text_table(text, ["factor", "share", ""], rows[:_LINES], max(0, len(rows) - _LINES)) if rows else text

    def _repr_html_(self) -> str:
        rows = [
            [
                effect["factor"],
                f"{effect['share']:.0%}",
                effect["certainty"],
                "; ".join(f"{level['name']}: {level['mean']:.4g} ({level['runs']})" for level in effect["levels"][:6]),
            ]
            for effect in self["effects"]
        ]
        return f"<p>{html.escape(self['sentence'])}</p>" + html_table(["factor", "share", "", "mean (runs)"], rows)


def effects(
    experiment: str | None = None,
    *,
    on: str | None = None,
    query: str = "",
    project: str | None = None,
    url: str | None = None,
) -> Effects:
    """Rank settings, data and code of an experiment's finished runs by how much of a value goes along with each.

    `on` is a value, that of the first goal without it; `query` narrows the runs. Each effect has its `share` of
    variance (0 to 1), a corrected `p` and a `certainty`: clear, likely or open. What people happened to try is no
    planned experiment: an effect is what goes along with a factor. Raises InvalidInput where nothing is named.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    session = open_session(project, url)
    chosen = experiment or session.connection.chosen_experiment
    if chosen is None:
        raise InvalidInput("Effects in which experiment? Name one.", field="experiment")
    path = path_of("projects", session.project, "experiments", chosen, "effects")
    return Effects(session.service.get(path, on=on, query=query))
