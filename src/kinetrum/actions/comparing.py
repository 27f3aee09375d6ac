"""Comparing runs: gathers what the core compares."""

from __future__ import annotations

from kinetrum.actions.context import Actor, enter
from kinetrum.actions.finding import run_named
from kinetrum.actions.looking import RunView, plain_view
from kinetrum.core.compare import Comparison, RunFacts, compare_runs
from kinetrum.core.compare.runs import RUN_LIMIT
from kinetrum.core.errors import InvalidInput
from kinetrum.core.goals import Goal
from kinetrum.storage.database import snapshot


@snapshot
def compare(actor: Actor, project: str, references: list[str], baseline: int) -> tuple[Comparison, list[RunView]]:
    """Compare 2 to 100 runs of a project; `baseline` is the index of the run to measure changes against."""
    if len(references) > RUN_LIMIT:
        raise InvalidInput(f"{len(references)} runs were given; 2 to {RUN_LIMIT} are compared.", field="run")
    place = enter(actor, project)
    views = [plain_view(run_named(place, reference)) for reference in references]
    goals: dict[str, Goal] = {}
    for view in views:
        for key, goal in view.goals.items():
            goals.setdefault(key, goal)
    same_experiment = len({view.run.experiment_id for view in views}) == 1
    facts = [_facts(view, same_experiment) for view in views]
    return compare_runs(facts, goals, baseline), views


def _facts(view: RunView, same_experiment: bool) -> RunFacts:
    run = view.run
    return RunFacts(
        reference=run.reference,
        label=f"Run {run.number}" if same_experiment else run.reference,
        experiment=run.experiment,
        status=run.status,
        params=view.doc.params,
        values=view.values,
        inputs={
            f"{link.name} ({link.role})" if link.role else link.name: f"{link.name}@{link.version}"
            for link in view.doc.used
        },
        metrics=view.metrics,
    )
