"""Kinetrum: record training runs, compare them, version models and promote them.

import kinetrum

with kinetrum.begin("frost-alarm", params={"learner": "forest", "depth": 6}, seed=7) as run:
    for epoch in run.progress(range(40)):
        run.measure(loss=0.31, recall=0.84)
    run.result(recall=0.913)
"""

from __future__ import annotations

# Not from typing: that module alone would cost as much as all of this import.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kinetrum.client.archives.transfer import export, export_everything, import_, import_everything
    from kinetrum.client.data.artifact_versions import CheckedFile, StoredVersion, difference, keep, uses
    from kinetrum.client.data.disk_usage import purge, storage
    from kinetrum.client.data.lineage import Lineage, lineage
    from kinetrum.client.data.rows import Rows, join_rows, rows
    from kinetrum.client.reading.comparison import Comparison, Effects, compare, effects
    from kinetrum.client.reading.descriptions import Experiment, binned, experiment
    from kinetrum.client.reading.notes import Note
    from kinetrum.client.reading.recorded_plots import RecordedPlot, overlay
    from kinetrum.client.reading.recorded_run import RecordedRun
    from kinetrum.client.reading.run_table import RunTable, fetch, open, restore, runs
    from kinetrum.client.recording.begin import attach, begin, resume
    from kinetrum.client.recording.run import Run
    from kinetrum.client.registry.deployment import Fetched
    from kinetrum.client.registry.models import Model, ModelVersion, model, models
    from kinetrum.client.registry.registration import fetch_locked, lock, register
    from kinetrum.client.registry.review import Review
    from kinetrum.core.base.errors import (
        Conflict,
        Damaged,
        InvalidInput,
        KinetrumError,
        NotAllowed,
        NotFound,
        NotSignedIn,
        TooLarge,
        Unavailable,
        UnexpectedOccupant,
    )

_HOMES = {
    "kinetrum.client.recording.begin": ("attach", "begin", "resume"),
    "kinetrum.client.recording.run": ("Run",),
    "kinetrum.client.reading.comparison": ("Comparison", "Effects", "compare", "effects"),
    "kinetrum.client.reading.descriptions": ("Experiment", "binned", "experiment"),
    "kinetrum.client.reading.notes": ("Note",),
    "kinetrum.client.data.lineage": ("Lineage", "lineage"),
    "kinetrum.client.archives.transfer": ("export", "export_everything", "import_", "import_everything"),
    "kinetrum.client.data.disk_usage": ("purge", "storage"),
    "kinetrum.client.registry.deployment": ("Fetched",),
    "kinetrum.client.reading.run_table": ("RunTable", "fetch", "open", "restore", "runs"),
    "kinetrum.client.reading.recorded_run": ("RecordedRun",),
    "kinetrum.client.reading.recorded_plots": ("RecordedPlot", "overlay"),
    "kinetrum.client.data.rows": ("Rows", "join_rows", "rows"),
    "kinetrum.client.registry.registration": ("fetch_locked", "lock", "register"),
    "kinetrum.client.registry.models": ("Model", "ModelVersion", "model", "models"),
    "kinetrum.client.registry.review": ("Review",),
    "kinetrum.client.data.artifact_versions": ("CheckedFile", "StoredVersion", "difference", "keep", "uses"),
    "kinetrum.core.base.errors": (
        "Conflict",
        "Damaged",
        "InvalidInput",
        "KinetrumError",
        "NotAllowed",
        "NotFound",
        "NotSignedIn",
        "TooLarge",
        "Unavailable",
        "UnexpectedOccupant",
    ),
}

__all__ = [
    "CheckedFile",
    "Comparison",
    "Conflict",
    "Damaged",
    "Effects",
    "Experiment",
    "Fetched",
    "InvalidInput",
    "KinetrumError",
    "Lineage",
    "Model",
    "ModelVersion",
    "NotAllowed",
    "NotFound",
    "NotSignedIn",
    "Note",
    "RecordedPlot",
    "RecordedRun",
    "Review",
    "Rows",
    "Run",
    "RunTable",
    "StoredVersion",
    "TooLarge",
    "Unavailable",
    "UnexpectedOccupant",
    "attach",
    "begin",
    "binned",
    "compare",
    "difference",
    "effects",
    "experiment",
    "export",
    "export_everything",
    "fetch",
    "fetch_locked",
    "import_",
    "import_everything",
    "join_rows",
    "keep",
    "lineage",
    "lock",
    "model",
    "models",
    "open",
    "overlay",
    "purge",
    "register",
    "restore",
    "resume",
    "rows",
    "runs",
    "storage",
    "uses",
]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used, so that the import itself costs next to nothing."""
    from importlib import import_module

    for home, names in _HOMES.items():
        if name in names:
            attribute = getattr(import_module(home), name)
            globals()[name] = attribute
            return attribute
    raise AttributeError(f"module 'kinetrum' has no attribute {name!r}")


def __dir__() -> list[str]:
    return list(__all__)
