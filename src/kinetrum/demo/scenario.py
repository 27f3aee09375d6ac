"""What the demo records: plans of runs in order, a search, replicates, and the registry's story."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kinetrum.demo.training import Plan

PEOPLE = (
    ("ilse", "Ilse Varga", "contributor"),
    ("tomas", "Tomas Reyl", "contributor"),
    ("noor", "Noor Adair", "approver"),
    ("wren", "Wren Okell", "maintainer"),
)
# Signs in elsewhere, and has the role that the group has.
ELSEWHERE = {"sub": "7", "preferred_username": "mara", "name": "Mara Ostrow", "groups": ["growers"]}
# Makes the tables of nights from what the stations recorded.
MACHINE = "nightly-tables"
PROJECT = "orchard"
FIRST, SECOND, THIRD, MOVED = "nights-2024", "nights-2026", "nights-corrected", "nights-by-year"
DATA: dict[str, tuple[tuple[int, ...], bool]] = {
    FIRST: ((2022, 2023, 2024, 2026), True),
    SECOND: ((2022, 2023, 2024, 2025, 2026), True),
    THIRD: ((2022, 2023, 2024, 2025, 2026), False),
}


def _boost(**more: Any) -> dict[str, Any]:
    return {"learner": "boost", "depth": 3, "rate": 0.1, "weight": 4, "rounds": 120, "threshold": 0.5} | more


def _forest(**more: Any) -> dict[str, Any]:
    return {"learner": "forest", "depth": 8, "weight": 4, "rounds": 40, "threshold": 0.5} | more


def _logistic(**more: Any) -> dict[str, Any]:
    return {"learner": "logistic", "rate": 0.5, "weight": 1, "rounds": 60, "threshold": 0.5} | more


BASELINE = [Plan("baseline", _logistic(), FIRST, labels={"purpose": "baseline"}, keep_model=True)]
FORESTS = [
    Plan("", _forest(depth=depth, weight=weight), FIRST, "tomas", keep_model=(depth, weight) == (8, 4))
    for depth in (4, 8, 12)
    for weight in (4, 8)
]
_DEPTHS, _RATES = (2, 3, 5), (0.05, 0.1, 0.2)
SEARCH = [Plan("", _boost(depth=depth, rate=rate), SECOND, "tomas") for depth in _DEPTHS for rate in _RATES]
SEARCH_SPACE = {"space": {"depth": list(_DEPTHS), "rate": list(_RATES)}, "budget": {"runs": len(SEARCH)}}
_EARLIER = Plan(
    "five seeds",
    _boost(depth=4, rate=0.15, weight=5),
    SECOND,
    labels={"purpose": "candidate"},
    keep_model=True,
)
_LATER = Plan(
    "shallow and slow",
    _boost(depth=2, rate=0.08, weight=5),
    THIRD,
    labels={"purpose": "candidate"},
    keep_model=True,
)
REPLICATES = [replace(_EARLIER, seed=seed, keep_model=seed == 0) for seed in range(5)]
BETTER = [replace(_LATER, seed=seed, keep_model=seed == 0) for seed in range(5)]
SINGLE = [
    Plan("deeper trees", _boost(depth=3, rate=0.08, weight=5), THIRD, keep_model=True),
    Plan("rate too large", _logistic(rate=900.0, weight=4, rounds=90), THIRD, "tomas"),
    Plan("too many trees", _forest(rounds=2000, depth=40), THIRD, "tomas"),
]
DAWN = [
    Plan("baseline", {"learner": "ridge", "alpha": 1.0}, FIRST, keep_model=True),
    *[
        Plan(
            "",
            {"learner": "boost", "depth": depth, "rate": 0.08, "rounds": 150},
            THIRD,
            "tomas",
            keep_model=depth == 3,
        )
        for depth in (2, 3, 4)
    ],
]
GAPS = [
    Plan("", {"method": "mean"}, SECOND, "tomas"),
    Plan("", {"method": "evening before"}, SECOND, "tomas"),
    *[Plan("", {"method": "neighbours", "stations": count}, SECOND, "tomas") for count in (1, 2, 4)],
]
SLOW = Plan("slow and long", _boost(depth=2, weight=5, rate=0.02, rounds=400), THIRD, "tomas")
# What people noted on runs, by the run's name: who, and what.
NOTES = {
    "rate too large": (
        "tomas",
        "Runs away to NaN after some rounds: the rate grows with the weights.\n\n"
        "- **Do not** go over 100 with this learner\n- `weight` has nothing to do with it",
    ),
    "shallow and slow": (
        "ilse",
        "Trained after **station 9 was corrected** (`nights@3`). Compare with *five seeds*"
        " only for the upper rows; below, the two agree.",
    ),
    "two workers, two thresholds": (
        "tomas",
        "The second worker read an older `settings.toml`. What it measured is with its own threshold.",
    ),
}
# What people noted on models and versions: who, on what, and what.
REGISTRY_NOTES = [
    (
        "noor",
        "model:frost-alarm",
        "Before each review I listen to the **four coldest nights** of 2026 with the watch: "
        "every alarm in vain costs a start of all three pumps.",
    ),
    (
        "ilse",
        "frost-alarm@5",
        "Recall went up most at *station 9*, whose readings were corrected in `nights@3`; "
        "at the other stations it is what version 3 had.",
    ),
]
OUTSIDE = "a script of its own"
GATES = """\
# What a version must meet to ring the bell at night.
[production]
approvals = 1
card = ["Purpose", "Limits"]
signature = "compatible"
recorded = ["data"]

[[production.bound]]
value = "recall"
on = "held-out"
at_least = 0.9

[[production.bound]]
value = "false_alarms"
on = "held-out"
at_most = 15

[[production.better]]
value = "recall"
on = "held-out"
confidence = 0.999
"""
CARD = """\
## Purpose

Says at ten in the evening whether any of the fourteen stations will freeze at dawn. The night watch gets up when it
does;
the wind machines are started by a person, never by the model.

## Data

Evening readings of four blossom seasons (`nights`), one row per station and night. The held-out season is 2026.

## Limits

Not for snow or for hail. Station 9 read 1.4 °C too warm until spring 2025; versions before 5 were trained on that.
Below the lowest station nothing is known.

## Use

    kinetrum fetch frost-alarm@production

Takes `X`, 9 readings a row, and gives the class and the chance of frost.
"""
