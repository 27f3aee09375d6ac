"""Describing what was recorded: names, labels, goals, seeds, corrections, and the bin; on one run or many."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from kinetrum.client.reading.notes import Noted, tell_things
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.goals import read_goal
from kinetrum.core.base.values import JsonObject, Value, to_json

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

RUNS_AT_ONCE = 1_000


def _each(session: Session, project: str, what: str, refs: Sequence[str], **fields: object) -> list[str]:
    done: list[str] = []
    for start in range(0, len(refs), RUNS_AT_ONCE):
        body = {"runs": list(refs[start : start + RUNS_AT_ONCE]), **fields}
        done += session.service.call("POST", path_of("projects", project) + what, json=body)["runs"]
    return done


def label_runs(session: Session, project: str, refs: Sequence[str], labels: dict[str, str | None]) -> list[str]:
    """Set labels on runs, None takes one away; returns the runs' references."""
    return _each(session, project, "/labels", refs, labels=labels)


def bin_things(session: Session, project: str, refs: Sequence[str], children: bool = False) -> list[str]:
    """Put runs and versions into the bin, with `children` the runs below them; returns their references.

    Raises NotAllowed for what others recorded.
    """
    references: list[str] = move_things(session, project, refs, True, children)["references"]
    return references


def move_things(session: Session, project: str, refs: Sequence[str], to_bin: bool, children: bool) -> answers.Moved:
    """Move things into the bin or out of it, with `children` the runs below them.

    Returns `references` of what was moved, and how many runs below were `left_below`.
    """
    path = path_of("projects", project, "bin", *([] if to_bin else ["restored"]))
    done: answers.Moved = {"references": [], "left_below": 0}
    for start in range(0, len(refs), RUNS_AT_ONCE):
        body = {"things": list(refs[start : start + RUNS_AT_ONCE]), "children": children}
        answer = session.service.call("POST", path, json=body)
        done["references"] += answer["references"]
        done["left_below"] += answer["left_below"]
    return done


def restore_things(session: Session, project: str, refs: Sequence[str]) -> list[str]:
    """Take runs and versions out of the bin; returns their references."""
    return tell_things(session, project, "bin/restored", refs)


def correct_run(session: Session, run_path: str, params: Mapping[str, Value], comment: str) -> None:
    """Correct parameters; the journal keeps what stood there."""
    body = {"params": {key: to_json(value) for key, value in params.items()}, "comment": comment}
    session.service.call("POST", run_path + "/corrections", json=body)


class Experiment(Noted):
    """An experiment: its description, labels, goals and notes. Get one from `kinetrum.experiment(name)`."""

    def __init__(self, session: Session, name: str, project: str | None = None) -> None:
        self._session, self.name, self.project = session, name, project or session.project
        self._path = path_of("projects", self.project, "experiments", name)
        self._session.service.get(self._path)

    @property
    def data(self) -> answers.Experiment:
        """What the service says of it now: description, labels, seeds, goals, counts of runs, the best run."""
        answer: answers.Experiment = self._session.service.get(self._path)
        return answer

    @property
    def description(self) -> str:
        """What it is about, Markdown. Assign a text to change it."""
        return str(self.data["description"])

    @description.setter
    def description(self, text: str) -> None:
        self._session.service.call("PATCH", self._path, json={"description": text})

    @property
    def labels(self) -> dict[str, str]:
        """Labels by key."""
        return dict(self.data["labels"])

    def label(self, **labels: str | None) -> None:
        """Set labels; None takes one away."""
        self._session.service.call("PATCH", self._path, json={"labels": labels})

    @property
    def goals(self) -> dict[str, JsonObject]:
        """Goals by key: direction, unit, bound, aggregate."""
        return {
            goal["key"]: {
                "direction": goal["direction"],
                "unit": goal["unit"],
                "bound": goal["bound"],
                "aggregate": goal["aggregate"],
            }
            for goal in self.data["goals"]
        }

    def set_goal(self, key: str, goal: str | Mapping[str, object]) -> None:
        """Set or change a goal: "higher", "lower <= 8 %", or a dictionary of direction, unit, bound, aggregate.

        Tables, sorts and arrows follow at once. Raises InvalidInput for what is no goal.
        `key` names the metric or result.
        """
        checked = read_goal(key, goal)
        body = {
            "direction": checked.direction.value,
            "unit": checked.unit,
            "bound": checked.bound,
            "aggregate": checked.aggregate,
        }
        self._session.service.call("PUT", self._path + "/goal", params={"key": key}, json=body)

    @property
    def seeds(self) -> list[str]:
        """Parameters in which replicates differ. Assign names to change them; groups and comparisons follow at once."""
        return list(self.data["seeds"])

    @seeds.setter
    def seeds(self, names: Sequence[str]) -> None:
        self._session.service.call("PUT", self._path + "/seeds", json={"seeds": list(names)})

    @property
    def generates_names(self) -> bool:
        """Whether runs that are begun without a name get a generated one. Assign to change it."""
        return bool(self.data["generates_names"])

    @generates_names.setter
    def generates_names(self, generates: bool) -> None:
        self._session.service.call("PATCH", self._path, json={"generates_names": generates})

    def rename(self, name: str) -> Experiment:
        """Give it another name; the earlier one goes on leading to it. Raises Conflict where that name is taken."""
        answer = self._session.service.call("PUT", self._path + "/name", json={"name": name})
        return Experiment(self._session, answer["name"], self.project)

    def remove_goal(self, key: str) -> None:
        """Take a goal away; a metric's last value stands for it again.

        Raises NotFound where `key` has no goal.
        """
        self._session.service.remove(self._path + "/goal", key=key)

    def _noted(self) -> tuple[Session, str, str]:
        return self._session, self.project, f"experiment:{self.name}"

    def __repr__(self) -> str:
        return f"<Experiment {self.name}>"


def experiment(name: str, *, project: str | None = None, url: str | None = None) -> Experiment:
    """Return an experiment that exists; raises NotFound otherwise.

    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    return Experiment(open_session(project, url), name)


def binned(*, project: str | None = None, url: str | None = None) -> list[answers.BinnedThing]:
    """Return what is in the project's bin, the latest first: reference, kind (run or version), author, binned_at, …

    `url` names another service than the connection's.
    """
    session = open_session(project, url)
    answer: list[answers.BinnedThing] = session.service.get(path_of("projects", session.project, "bin"))
    return answer
