"""The registry from Python: models, versions, reviews, stages."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kinetrum.client.downloads import download_files
from kinetrum.client.http import path_of
from kinetrum.client.session import Session, open_session
from kinetrum.client.spool import new_id
from kinetrum.client.stored import keep
from kinetrum.core.errors import InvalidInput, NotFound
from kinetrum.core.refs import VersionRef, parse_ref
from kinetrum.core.values import Value, check_name, from_json


class _Seen:
    """Stands for 'the occupant that this object last read'."""

    def __repr__(self) -> str:
        return "SEEN"


SEEN = _Seen()
Expect = int | None | _Seen


class Model:
    """A registered model with its ladder, as last read. `model["production"]` is the version that stands there."""

    def __init__(self, session: Session, data: dict[str, Any]) -> None:
        self._session, self.data = session, data

    @classmethod
    def read(cls, session: Session, project: str, name: str) -> Model:
        """Read a model."""
        return cls(session, session.service.get(path_of("projects", project, "models", name)))

    name: str = property(lambda self: self.data["name"])  # type: ignore[assignment]
    project: str = property(lambda self: self.data["project"])  # type: ignore[assignment]

    def _path(self, *more: str) -> str:
        return path_of("projects", self.project, "models", self.name, *more)

    @property
    def stages(self) -> dict[str, int | None]:
        """Occupant by stage, from the lowest stage to the highest."""
        return {stage["name"]: stage["occupant"] for stage in self.data["stages"]}

    @property
    def versions(self) -> list[int]:
        """Version numbers, the newest first."""
        return [version["number"] for version in self.data["versions"]]

    def __getitem__(self, which: int | str) -> ModelVersion:
        """Return a version by number, by stage, or `lead`."""
        return ModelVersion.read(self._session, self.project, self.name, str(which))

    @property
    def lead(self) -> int | None:
        """The lead version's number; None where there is none. Assign a number to choose it, None to leave it open."""
        found: int | None = self.data["lead"]
        return found

    @lead.setter
    def lead(self, number: int | None) -> None:
        self._session.service.call("PUT", self._path("lead"), json={"version": number})
        self.refresh()

    def refresh(self) -> Model:
        """Read the model again and return it."""
        self.data = self._session.service.get(self._path())
        return self

    def occupant_seen(self, stage: str) -> int | None:
        """Return the occupant that this object last read; raises NotFound for an unknown stage."""
        if stage not in self.stages:
            raise NotFound(
                f"{self.name} has no stage {stage!r}; its ladder is {', '.join(self.stages)}.", field="stage"
            )
        return self.stages[stage]

    def place(self, stage: str, act: str, expect: Expect, comment: str, **more: Any) -> None:
        """Carry out one act on a stage against the occupant that was seen."""
        seen = self.occupant_seen(stage) if isinstance(expect, _Seen) else expect
        body = {"id": new_id(), "expect": seen, "comment": comment, **more}
        self.data = self._session.service.call("POST", self._path("stages", stage, act), json=body)

    def roll_back(self, stage: str, *, expect: Expect = SEEN, comment: str = "") -> int | None:
        """Put a stage back to the latest earlier version that can stand; returns its number."""
        self.place(stage, "rollbacks", expect, comment)
        return self.stages[stage]

    def demote(self, stage: str, *, expect: Expect = SEEN, comment: str = "") -> None:
        """Empty a stage."""
        self.place(stage, "demotions", expect, comment)

    def __repr__(self) -> str:
        return f"<Model {self.name} {self.stages}>"


class ModelVersion:
    """A version of a model, as last read."""

    def __init__(self, session: Session, project: str, data: dict[str, Any]) -> None:
        self._session, self._project, self.data = session, project, data
        self._model: Model | None = None

    @classmethod
    def read(cls, session: Session, project: str, name: str, which: str) -> ModelVersion:
        """Read a version by number, by stage, or `lead`."""
        path = path_of("projects", project, "models", name, "versions", which)
        version = cls(session, project, session.service.get(path))
        version._model = Model.read(session, project, name)
        return version

    reference: str = property(lambda self: self.data["reference"])  # type: ignore[assignment]
    number: int = property(lambda self: self.data["number"])  # type: ignore[assignment]
    review: str = property(lambda self: self.data["review"])  # type: ignore[assignment]
    run: str | None = property(lambda self: self.data["run"])  # type: ignore[assignment]
    stages: list[str] = property(lambda self: self.data["stages"])  # type: ignore[assignment]
    digest: str = property(lambda self: self.data["artifact"]["digest"])  # type: ignore[assignment]

    @property
    def values(self) -> dict[str, Value]:
        """What the run that it came from achieved, by key."""
        return {key: from_json(value, key) for key, value in self.data["values"].items()}

    @property
    def model(self) -> Model:
        """The model, as read together with this version."""
        if self._model is None:
            self._model = Model.read(self._session, self._project, self.data["model"])
        return self._model

    def _path(self, *more: str) -> str:
        return path_of("projects", self._project, "models", self.data["model"], "versions", str(self.number), *more)

    def _verdict(self, verdict: str | None, comment: str) -> None:
        body = {"verdict": verdict, "comment": comment}
        self.data["review"] = self._session.service.call("PUT", self._path("verdict"), json=body)["review"]

    def approve(self, comment: str = "") -> None:
        """Approve this version."""
        self._verdict("approve", comment)

    def reject(self, comment: str = "") -> None:
        """Reject this version."""
        self._verdict("reject", comment)

    def take_back_verdict(self, comment: str = "") -> None:
        """Take one's own verdict back."""
        self._verdict(None, comment)

    def promote(self, stage: str, *, expect: Expect = SEEN, comment: str = "") -> None:
        """Place this version on a stage. `expect` is the occupant to be replaced (None: an empty stage);
        by default the one that this object last read. Raises UnexpectedOccupant where another stands there now.
        """
        self.model.place(stage, "promotions", expect, comment, version=self.number)
        self.refresh()

    def retire(self, retired: bool = True, comment: str = "") -> None:
        """Retire this version, or take that back."""
        body = {"retired": retired, "comment": comment}
        self._session.service.call("PUT", self._path("retirement"), json=body)
        self.refresh()

    def refresh(self) -> ModelVersion:
        """Read the version again and return it."""
        self.data = self._session.service.get(self._path())
        return self

    def download(self, to: str | Path = ".", path: str | None = None) -> list[Path]:
        """Download its files below a folder, verified; returns their paths."""
        files = [entry for entry in self.data["files"] if path in (None, entry["path"])]
        if not files:
            raise NotFound(f"{self.reference} has no file {path!r}.", field="path")
        artifact = self.data["artifact"]
        return download_files(
            self._session.service, self._project, artifact["name"], artifact["number"], files, Path(to)
        )

    def __repr__(self) -> str:
        return f"<{self.reference} {self.review}{' on ' + ', '.join(self.stages) if self.stages else ''}>"


@dataclass(frozen=True)
class _Request:
    model: str
    body: dict[str, Any]


def _register(session: Session, project: str, request: _Request) -> ModelVersion:
    path = path_of("projects", project, "models", check_name(request.model, "model"), "versions")
    return ModelVersion(session, project, session.service.call("POST", path, json={"id": new_id(), **request.body}))


def register_from_run(address: dict[str, str], artifact: str, as_model: str, comment: str) -> ModelVersion:
    """Register what a run generated; waits for the spool first."""
    session = open_session(address["project"])
    run = session.service.get(path_of("projects", address["project"], "runs", address["run"]))
    body = {"artifact": artifact, "run": run["reference"], "comment": comment}
    return _register(session, address["project"], _Request(as_model, body))


def register(
    what: str | os.PathLike[str],
    *,
    as_model: str,
    run: str | None = None,
    origin: str | None = None,
    comment: str = "",
    name: str | None = None,
    project: str | None = None,
    url: str | None = None,
) -> ModelVersion:
    """Register a version: an artifact version (`frost-net@3`), what a run generated (`frost-net`, `run=`), or a path.

    A path is uploaded as the artifact `name` (by default MODEL-files); it needs `origin`, words on where it
    came from. Raises NotFound, InvalidInput or Conflict as the service says.
    """
    session = open_session(project, url)
    source = os.fspath(what)
    if run is None and ("/" in source or Path(source).exists()) and "@" not in source:
        if not origin:
            raise InvalidInput(
                "No run made these files; tell in words where they came from (origin=…).", field="origin"
            )
        source = keep(source, name=name or f"{as_model}-files", kind="model", session=session)
    elif run is None:
        ref = parse_ref(source)
        if not isinstance(ref, VersionRef):
            raise InvalidInput(
                f"{source!r} is neither a path that is there nor NAME@NUMBER; with run=… a bare name will do.",
                field="what",
            )
    body = {"artifact": source, "run": run, "origin": origin, "comment": comment}
    return _register(session, session.project, _Request(as_model, body))


def model(name: str, *, project: str | None = None, url: str | None = None) -> Model:
    """Return a model of the registry."""
    session = open_session(project, url)
    return Model.read(session, session.project, check_name(name, "model"))


def models(*, project: str | None = None, url: str | None = None) -> list[Model]:
    """Return all models of a project."""
    session = open_session(project, url)
    return [Model(session, data) for data in session.service.get(path_of("projects", session.project, "models"))]
