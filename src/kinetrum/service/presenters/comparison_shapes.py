"""From what comparing returns to what the interface sends."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from kinetrum.actions.compare.comparison import Compared
from kinetrum.actions.compare.effects import Explained
from kinetrum.actions.search.chart_columns import DrawnColumn
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.values import to_json
from kinetrum.core.compare.runs import Outcome
from kinetrum.core.compare.sentence import effects_sentence
from kinetrum.core.points.together import Band
from kinetrum.service.presenters import shapes
from kinetrum.storage.runs.runs import Run
from kinetrum.wire import comparison as wire


def comparison(compared: Compared) -> wire.Comparison:
    """Shape a comparison."""
    verdict = compared.comparison
    return wire.Comparison(
        runs=[
            wire.ComparedRun(
                reference=facts.reference,
                id=id_text(view.run.uid),
                label=facts.label,
                experiment=facts.experiment,
                name=view.run.name,
                status=facts.status,
                started_at=view.run.started_at,
                author=view.author,
                replicates=[one.reference for one in facts.replicates],
            )
            for facts, view in zip(verdict.runs, compared.views, strict=True)
        ],
        baseline=verdict.baseline,
        headline=verdict.headline,
        settings=verdict.settings,
        settings_equal=verdict.settings_equal,
        inputs=verdict.inputs,
        inputs_equal=verdict.inputs_equal,
        surroundings=verdict.surroundings,
        surroundings_equal=verdict.surroundings_equal,
        costs=[_outcome(row) for row in verdict.costs],
        outcomes=[_outcome(row) for row in verdict.outcomes],
        outcomes_equal=verdict.outcomes_equal,
        metrics=verdict.metrics,
    )


def _outcome(row: Outcome) -> wire.ComparedOutcome:
    return wire.ComparedOutcome(
        key=row.key,
        goal=row.goal,
        values=[to_json(value) for value in row.values],
        present=row.present,
        spreads=row.spreads,
        changes=row.changes,
        change=row.change,
        change_share=row.change_share,
        verdict=row.verdict,
        best=row.best,
    )


def group_curve(reference: str, runs: int, band: Band) -> wire.GroupCurve:
    """Shape the curves of a group."""
    return wire.GroupCurve(
        run=reference,
        runs=runs,
        steps=band.steps.tolist(),
        mean=band.mean.tolist(),
        low=band.low.tolist(),
        high=band.high.tolist(),
    )


def effects(explained: Explained) -> wire.Effects:
    """Shape what moves a value."""
    effects_found = explained.effects
    return wire.Effects(
        key=explained.key,
        goal=explained.goal,
        runs=effects_found.runs,
        left_out=explained.left_out,
        sentence=effects_sentence(explained.key, effects_found),
        effects=effects_found.effects,
        interactions=[wire.Interaction(factors=list(one.factors), p=one.p) for one in effects_found.interactions],
        unvaried=effects_found.left_out,
    )


def drawn(runs: Sequence[Run], columns: Sequence[DrawnColumn], left_out: int) -> wire.Drawn:
    """Shape columns for charts."""
    return wire.Drawn(
        runs=[
            wire.DrawnRun(reference=run.reference, number=run.number, name=run.name, status=run.status) for run in runs
        ],
        columns=[_column(column) for column in columns],
        left_out=left_out,
    )


def _column(column: DrawnColumn) -> wire.DrawnColumn:
    chosen: Any = shapes.chosen(column.text, column.source)
    return wire.DrawnColumn(
        text=column.text,
        scope=chosen.scope,
        name=chosen.name,
        aggregate=chosen.aggregate,
        goal=column.goal,
        values=[to_json(value) for value in column.values],
    )
