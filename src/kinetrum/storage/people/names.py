"""Names that experiments and models had before they were renamed: each still leads to what bears another name now."""

from __future__ import annotations

from kinetrum.storage.db.clock import now
from kinetrum.storage.tables.people import EarlierName, Experiment
from kinetrum.storage.tables.registry import RegisteredModel

EXPERIMENT, MODEL = "experiment", "model"


def find_earlier(project_id: int, kind: str, name: str) -> int | None:
    """Return the id of the experiment or model that had a name before, None where none had."""
    row = EarlierName.get_or_none(_named(project_id, kind, name))
    return int(row.row_id) if row else None


def _named(project_id: int, kind: str, name: str) -> object:
    return (EarlierName.project_id == project_id) & (EarlierName.kind == kind) & (EarlierName.name == name)


def earlier_names(kind: str, row_id: int) -> list[str]:
    """Return the names that an experiment or model had before, the earliest first."""
    rows = (
        EarlierName.select()
        .where((EarlierName.kind == kind) & (EarlierName.row_id == row_id))
        .order_by(EarlierName.since)
    )
    return [row.name for row in rows]


def earlier_in(project_id: int, kind: str) -> dict[int, list[str]]:
    """Return the earlier names of all experiments or models of a project, by their ids."""
    names: dict[int, list[str]] = {}
    for row in EarlierName.select().where((EarlierName.project_id == project_id) & (EarlierName.kind == kind)):
        names.setdefault(row.row_id, []).append(row.name)
    return names


def every_name(kind: str, row_id: int, name: str) -> list[str]:
    """Return the name that an experiment or model bears and those that it had before."""
    return [name, *earlier_names(kind, row_id)]


def keep_earlier(project_id: int, kind: str, row_id: int, name: str) -> None:
    """Let a name lead to an experiment or model that bears another; `name` is known to be free."""
    EarlierName.insert(project_id=project_id, kind=kind, name=name, row_id=row_id, since=now()).execute()


def rename(project_id: int, kind: str, row_id: int, before: str, name: str) -> None:
    """Give an experiment or a model another name and keep the one that it had; `name` is known to be free."""
    EarlierName.delete().where(_named(project_id, kind, name)).execute()
    keep_earlier(project_id, kind, row_id, before)
    if kind == EXPERIMENT:
        Experiment.update(name=name).where(Experiment.experiment_id == row_id).execute()
    else:
        RegisteredModel.update(name=name).where(RegisteredModel.model_id == row_id).execute()
