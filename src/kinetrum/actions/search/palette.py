"""Going to anything: what a reference or a fragment of a name means, in all projects that one may see."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from kinetrum.actions.context import Actor, Place, role_of, visible_projects
from kinetrum.actions.search.references import find_run_by_tail, run_named
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.refs import RunRef, parse_ref
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.runs.runs import Run
from kinetrum.storage.search import name_fragments, views

FOUND_LIMIT = 30
_OF_A_KIND = 8


@dataclass(frozen=True)
class PaletteMatch:
    """Something that fits: its kind, reference, a title, more about it, and its address in the console."""

    kind: str
    reference: str
    title: str
    about: str
    project: str
    address: str


@snapshot
def find(actor: Actor, text: str, project: str | None) -> list[PaletteMatch]:
    """Return what a reference names or a fragment fits: the named project's things first, exact names before parts."""
    text = " ".join(text.split())
    if not text:
        return []
    rows = [one.project for one in visible_projects(actor)]
    rows.sort(key=lambda row: (row.name != project, row.name))
    matches: dict[str, PaletteMatch] = {}
    for row in rows:
        role = role_of(actor, row.project_id)
        if role is None:
            continue
        for each in _in_project(Place(row, role), actor, text):
            matches.setdefault(each.address, each)
        if len(matches) >= FOUND_LIMIT:
            break
    wanted = text.lower()
    order = {"experiment": 0, "model": 1, "artifact": 2, "view": 3, "run": 4, "project": 5}

    def place(each: PaletteMatch) -> tuple[bool, bool, int]:
        names = {each.reference.lower(), each.title.lower()}
        return wanted not in names, each.project != project and project is not None, order[each.kind]

    return sorted(matches.values(), key=place)[:FOUND_LIMIT]


def _in_project(place: Place, actor: Actor, text: str) -> Iterator[PaletteMatch]:
    name = place.project.name
    inner = text.removeprefix(f"{name}/")
    if text.lower() in name:
        yield PaletteMatch("project", name, name, place.project.description or "project", name, f"/{name}")
    yield from _named_run(place, inner)
    for experiment, runs in name_fragments.experiments_like(place.project_id, inner, _OF_A_KIND):
        yield PaletteMatch(
            "experiment", f"experiment:{experiment}", experiment, f"{runs:,} runs", name, f"/{name}/e/{experiment}"
        )
    for model, lead in name_fragments.models_like(place.project_id, inner, _OF_A_KIND):
        about = f"model, version {lead} leads" if lead else "model"
        yield PaletteMatch("model", f"model:{model}", model, about, name, f"/{name}/models/{model}")
    for artifact, kind, latest in name_fragments.artifacts_like(place.project_id, inner, _OF_A_KIND):
        yield PaletteMatch(
            "artifact", f"{artifact}@{latest}", artifact, f"{kind}, version {latest}", name, f"/{name}/data/{artifact}"
        )
    for view in views.views_of(place.project_id, actor.person_id, None):
        if inner.lower() in view.name.lower() and view.experiment:
            from urllib.parse import urlencode

            yield PaletteMatch(
                "view",
                view.name,
                view.name,
                f"view of {view.experiment}",
                name,
                f"/{name}/e/{view.experiment}?{urlencode(view.arrangement)}",
            )
    for run in name_fragments.runs_like(place.project_id, inner, _OF_A_KIND):
        yield _run(run)


def _named_run(place: Place, text: str) -> Iterator[PaletteMatch]:
    try:
        reference = parse_ref(text)
        if isinstance(reference, RunRef) and reference.project in {None, place.project.name}:
            yield _run(run_named(place, text) if reference.experiment else find_run_by_tail(place, reference.pick))
    except InvalidInput:
        return
    except KinetrumError:
        return


def _run(run: Run) -> PaletteMatch:
    about = ", ".join(part for part in (run.status, f"of {run.experiment}") if part)
    return PaletteMatch(
        "run", run.reference, run.name or run.reference, about, run.project, f"/{run.project}/e/{run.reference}"
    )
