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

    from kinetrum.client.beginning import attach, begin, resume
    from kinetrum.client.comparing import Comparison, Effects, compare, effects
    from kinetrum.client.describing import Experiment, binned, experiment
    from kinetrum.client.fetched import Fetched
    from kinetrum.client.lineage import Lineage, lineage
    from kinetrum.client.moving import export, export_everything, import_, import_everything
    from kinetrum.client.noting import Note
    from kinetrum.client.reading import RunTable, fetch, open, restore, runs
    from kinetrum.client.recorded import RecordedRun
    from kinetrum.client.recorded_plots import RecordedPlot, overlay
    from kinetrum.client.registering import fetch_locked, lock, register
    from kinetrum.client.registry import Model, ModelVersion, model, models
    from kinetrum.client.reviews import Review
    from kinetrum.client.room import purge, storage
    from kinetrum.client.rows import Rows, join_rows, rows
    from kinetrum.client.run import Run
    from kinetrum.client.stored import CheckedFile, StoredVersion, difference, keep, uses
    from kinetrum.core.errors import (
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
    "kinetrum.client.beginning": ("attach", "begin", "resume"),
    "kinetrum.client.run": ("Run",),
    "kinetrum.client.comparing": ("Comparison", "Effects", "compare", "effects"),
    "kinetrum.client.describing": ("Experiment", "binned", "experiment"),
    "kinetrum.client.noting": ("Note",),
    "kinetrum.client.lineage": ("Lineage", "lineage"),
    "kinetrum.client.moving": ("export", "export_everything", "import_", "import_everything"),
    "kinetrum.client.room": ("purge", "storage"),
    "kinetrum.client.fetched": ("Fetched",),
    "kinetrum.client.reading": ("RunTable", "fetch", "open", "restore", "runs"),
    "kinetrum.client.recorded": ("RecordedRun",),
    "kinetrum.client.recorded_plots": ("RecordedPlot", "overlay"),
    "kinetrum.client.rows": ("Rows", "join_rows", "rows"),
    "kinetrum.client.registering": ("fetch_locked", "lock", "register"),
    "kinetrum.client.registry": ("Model", "ModelVersion", "model", "models"),
    "kinetrum.client.reviews": ("Review",),
    "kinetrum.client.stored": ("CheckedFile", "StoredVersion", "difference", "keep", "uses"),
    "kinetrum.core.errors": (
        "Conflict", "Damaged", "InvalidInput", "KinetrumError", "NotAllowed", "NotFound", "NotSignedIn", "TooLarge",
        "Unavailable", "UnexpectedOccupant",
    ),
}  # fmt: skip

__all__ = [
    "CheckedFile", "Comparison", "Conflict", "Damaged", "Effects", "Experiment", "Fetched", "InvalidInput",
    "KinetrumError", "Lineage", "Model", "ModelVersion", "NotAllowed", "NotFound", "NotSignedIn", "Note",
    "RecordedPlot", "RecordedRun", "Review", "Rows", "Run", "RunTable", "StoredVersion", "TooLarge",
    "Unavailable", "UnexpectedOccupant", "attach", "begin", "binned", "compare", "difference", "effects",
    "experiment", "export", "export_everything", "fetch", "fetch_locked", "import_", "import_everything", "join_rows",
    "keep", "lineage", "lock", "model", "models", "open", "overlay", "purge", "register",
    "restore", "resume", "rows", "runs", "storage", "uses",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used, so that the import itself costs next to nothing."""
    from importlib import import_module

    for home, names in _HOMES.items():
        if name in names:
            found = getattr(import_module(home), name)
            globals()[name] = found
            return found
    raise AttributeError(f"module 'kinetrum' has no attribute {name!r}")


def __dir__() -> list[str]:
    return list(__all__)
