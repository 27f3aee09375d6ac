"""An archive that was opened and read, and what of it is here already."""

from __future__ import annotations

import zipfile
from dataclasses import dataclass

from kinetrum.actions.archives.members import (
    read_json,
)
from kinetrum.actions.context import Place
from kinetrum.core.archives.archive import (
    Contents,
    ExperimentRecord,
    RunRecord,
)
from kinetrum.core.archives.archive_reading import read_run
from kinetrum.core.archives.project import ProjectRecord
from kinetrum.storage.people import projects
from kinetrum.storage.people.projects import ExperimentRow


@dataclass(frozen=True)
class Opened:
    """An archive and what stands in it: what it says of itself, its runs, and where it holds one its project."""

    archive: zipfile.ZipFile
    contents: Contents
    runs: list[RunRecord]
    project: ProjectRecord | None


def read_run_record(archive: zipfile.ZipFile, uid: str) -> RunRecord:
    """Read one run's record; raises InvalidInput where it is none."""
    return read_run(read_json(archive, f"runs/{uid}/run.json"), f"runs/{uid}/run.json")


def experiment_here(place: Place, experiment: ExperimentRecord) -> ExperimentRow | None:
    """Return what an experiment of the archive is here: by the name that it has there, or one that it had before.

    A name that an experiment had before it was renamed here leads to that one too.
    """
    experiments = (
        projects.experiment_named(place.project_id, name) for name in (experiment.name, *experiment.earlier_names)
    )
    return next((row for row in experiments if row is not None), None)
