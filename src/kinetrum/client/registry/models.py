"""The registry from Python: models, versions, reviews, stages."""

from __future__ import annotations

import html
import os
import warnings
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.data.downloads import download_files
from kinetrum.client.display.html import html_table, moment
from kinetrum.client.reading.notes import Noted
from kinetrum.client.registry.model_settings import ModelSettings
from kinetrum.client.registry.review import Review
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.progress import Tick
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.values import JsonObject, Value, check_name, from_json, show
from kinetrum.core.registry.signature import Signature, signature_from_json

if TYPE_CHECKING:
    from kinetrum.client.registry.deployment import Fetched
    from kinetrum.client.transport import answers


class _Seen:
    """Stands for 'the occupant that this object last read'."""

    def __repr__(self) -> str:
        return "SEEN"


SEEN = _Seen()
Expect = int | None | _Seen
_PAGE = 500


class Model(ModelSettings):
    """A registered model with its ladder, as last read. `model["production"]` is the version that stands there."""

    @classmethod
    def read(cls, session: Session, project: str, name: str) -> Model:
        """Read a model."""
        return cls(session, session.service.get(path_of("projects", project, "models", name)))

    def __getitem__(self, which: int | str) -> ModelVersion:
        """Return a version by number, by stage, `lead`, or `sha256:…`."""
        return ModelVersion.read(self._session, self.project, self.name, str(which))

    def compare(self, number: int | str, against: int | str) -> Review:
        """Put a version beside any other: results on the same data, signature, packages, settings of their runs.

        `number` and `against` name versions of the model. Raises NotFound where one is not there.
        """
        path = self._path("versions", str(number), "review")
        return Review(self._session.service.get(path, against=str(against)))

    def occupant_seen(self, stage: str) -> int | None:
        """Return the occupant that this object last read; raises NotFound for an unknown stage."""
        if stage not in self.stages:
            raise NotFound(
                f"{self.name} has no stage {stage!r}; its ladder is {', '.join(self.stages)}.", field="stage"
            )
        return self.stages[stage]

    def place(self, stage: str, act: str, expect: Expect, comment: str, **more: object) -> None:
        """Carry out one act on a stage against the occupant that was seen.

        `expect` is that occupant, `comment` stays in the journal, `more` are the act's own fields. Raises
        UnexpectedOccupant where another stands there now.
        """
        seen = self.occupant_seen(stage) if isinstance(expect, _Seen) else expect
        body = {"id": new_id(), "expect": seen, "comment": comment, **more}
        self.data = self._session.service.call("POST", self._path("stages", stage, act), json=body)

    def roll_back(self, stage: str, *, expect: Expect = SEEN, comment: str = "") -> int | None:
        """Put a stage back to the latest earlier version that can stand; returns its number.

        `expect` and `comment` are those of `demote`.
        """
        self.place(stage, "rollbacks", expect, comment)
        return self.stages[stage]

    def demote(self, stage: str, *, expect: Expect = SEEN, comment: str = "") -> None:
        """Empty a stage.

        `expect` is the occupant that was seen, by default the one last read. `comment` stays in the journal.
        Raises UnexpectedOccupant where another stands there now.
        """
        self.place(stage, "demotions", expect, comment)

    def __repr__(self) -> str:
        return f"<Model {self.name} {self.stages}>"

    def _repr_html_(self) -> str:
        rows = [
            [stage["name"], str(stage["occupant"] or "–"), moment(stage["since"]), stage["warning"] or ""]
            for stage in reversed(self.data["stages"])
        ]
        return f"<p><b>{html.escape(self.name)}</b> {html.escape(self.purpose)}</p>" + html_table(
            ["stage", "version", "since", ""], rows
        )


class ModelVersion(Noted):
    """A version of a model, as last read."""

    def __init__(
        self, session: Session, project: str, data: answers.ModelVersionDetail, reference: str | None = None
    ) -> None:
        self._session, self._project, self.data = session, project, data
        self._asked = reference or str(data["number"])
        self._model: Model | None = None

    @classmethod
    def read(cls, session: Session, project: str, name: str, which: str) -> ModelVersion:
        """Read a version by number, by stage, `lead`, `newest`, or `sha256:…`."""
        path = path_of("projects", project, "models", name, "versions", which)
        version = cls(session, project, session.service.get(path), which)
        version._model = Model.read(session, project, name)
        return version

    @property
    def reference(self) -> str:
        """`NAME@NUMBER`."""
        return self.data["reference"]

    @property
    def number(self) -> int:
        """Its number."""
        return self.data["number"]

    @property
    def review(self) -> str:
        """`pending`, `approved` or `rejected`."""
        return self.data["review"]

    @property
    def run(self) -> str | None:
        """The run that it was made by, `EXPERIMENT/NUMBER`; None where it came otherwise."""
        return self.data["run"]

    @property
    def stages(self) -> list[str]:
        """The stages on which it stands."""
        return self.data["stages"]

    @property
    def labels(self) -> dict[str, str]:
        """Its labels."""
        return dict(self.data["labels"])

    @property
    def digest(self) -> str:
        """SHA-256 of its content."""
        return self.data["artifact"]["digest"]

    @property
    def overrides(self) -> list[str]:
        """Gates that a maintainer overrode for it, with the reasons."""
        return list(self.data["overrides"])

    @property
    def dependencies(self) -> dict[str, str]:
        """What it asks for, by package."""
        return dict(self.data["dependencies"])

    @property
    def values(self) -> dict[str, Value]:
        """What its run achieved, or at its step the checkpoint that it was made from, by key; and what was added."""
        return {key: from_json(value, key) for key, value in self.data["values"].items()}

    @property
    def step(self) -> int | None:
        """The step of the checkpoint that it was made from; None where it stands for the whole run."""
        step: int | None = self.data["step"]
        return step

    @property
    def signature(self) -> Signature | None:
        """What it takes and gives; None where that is not known."""
        signature = self.data["signature"]
        return signature_from_json(signature) if signature else None

    @property
    def evidence(self) -> dict[str, answers.Evidence]:
        """Its newest evidence by the name of the data: `results`, `run`, `rows`, `digest`, `at`."""
        return {one["on"]: one for one in self.data["evidence"]}

    @property
    def lock(self) -> str:
        """One line that names it and what its files must be: `frost-alarm@7 sha256:…`."""
        return f"{self._project}/{self.reference} sha256:{self.digest}"

    @property
    def model(self) -> Model:
        """The model, as read together with this version."""
        if self._model is None:
            self._model = Model.read(self._session, self._project, self.data["model"])
        return self._model

    def _path(self, *more: str) -> str:
        return path_of("projects", self._project, "models", self.data["model"], "versions", str(self.number), *more)

    def _noted(self) -> tuple[Session, str, str]:
        return self._session, self._project, self.reference

    def _verdict(self, verdict: str | None, comment: str) -> None:
        body = {"verdict": verdict, "comment": comment}
        self.data["review"] = self._session.service.call("PUT", self._path("verdict"), json=body)["review"]

    def approve(self, comment: str = "") -> None:
        """Approve this version.

        `comment` is kept with the verdict. Raises NotAllowed for who may not judge it.
        """
        self._verdict("approve", comment)

    def reject(self, comment: str = "") -> None:
        """Reject this version.

        `comment` says why and is kept with the verdict. Raises NotAllowed for who may not judge it.
        """
        self._verdict("reject", comment)

    def take_back_verdict(self, comment: str = "") -> None:
        """Take one's own verdict back.

        `comment` stays in the journal. Raises Conflict where there is none.
        """
        self._verdict(None, comment)

    def promote(self, stage: str, *, expect: Expect = SEEN, comment: str = "", override: str | None = None) -> None:
        """Place this version on a stage, through its gates. `expect` is the occupant to be replaced (None: an empty
        stage); by default the one that this object last read. `override` is a maintainer's reason to place it although
        gates are not met. Raises UnexpectedOccupant where another stands there now, Conflict where gates are not met.
        `comment` stays in the journal.
        """
        self.model.place(stage, "promotions", expect, comment, version=self.number, override=override)
        self.refresh()

    def look_at_gates(self, stage: str) -> list[answers.GateCheck]:
        """Return what a stage's gates say of it now: `asks`, `met`, `found`, `figures`; nothing is changed."""
        answer: list[answers.GateCheck] = self._session.service.get(self._path("gates", stage))["checks"]
        return answer

    def beside(self, stage: str | None = None, *, against: int | str | None = None) -> Review:
        """Put it beside a stage's occupant (by default the highest stage's), or `against` any other version."""
        other = None if against is None else str(against)
        return Review(self._session.service.get(self._path("review"), stage=stage, against=other))

    def add_evidence(
        self,
        on: str,
        *,
        y_true: object = None,
        y_score: object = None,
        rows: object = True,
        run: str | None = None,
        data: str | os.PathLike[str] | None = None,
        **options: object,
    ) -> answers.Evidence:
        """Pin what it achieved on named data: judge predictions here (`y_true`, `y_score`), or name a `run` that did.

        Predictions become a run of the experiment MODEL-evidence that used this version, with results, plots and (with
        row keys, or True for 0, 1, 2 …) predictions row by row. `data` is the file, folder or version judged on; its
        fingerprint is kept. Returns the evidence. Raises InvalidInput for a run that says nothing of this version.
        `rows` are the row keys, `options` those of `Run.evaluate`.
        """
        from kinetrum.client.registry.evidence import judge_version

        if (run is None) == (y_true is None):
            raise InvalidInput("Give either y_true and y_score, or a run that judged it.", field="run")
        judged = run or judge_version(self, self._project, on, (y_true, y_score), rows, data, options)
        body = {"id": new_id(), "on": on, "run": judged}
        self.data["evidence"] = self._session.service.call("POST", self._path("evidence"), json=body)
        return self.evidence[on]

    def label(self, **labels: str | None) -> None:
        """Set labels; None takes one away."""
        self._session.service.call("PATCH", self._path("labels"), json={"labels": labels})
        self.refresh()

    def retire(self, retired: bool = True, comment: str = "") -> None:
        """Retire this version, or take that back.

        `retired` is False to take it back. `comment` stays in the journal.
        """
        body = {"retired": retired, "comment": comment}
        self._session.service.call("PUT", self._path("retirement"), json=body)
        self.refresh()

    def refresh(self) -> ModelVersion:
        """Read the version again and return it."""
        self.data = self._session.service.get(self._path())
        return self

    def download(
        self,
        to: str | Path = ".",
        path: str | None = None,
        *,
        replace: bool = False,
        keep: int = 0,
        strict: bool = False,
        tick: Tick | None = None,
    ) -> Fetched:
        """Download its files into a folder, verified, and a note `kinetrum-version.json` beside them.

        They come into a new folder beside `to`, which then takes the place of what an earlier download laid out there,
        in one step; `keep` so many earlier ones stay beside it, as `TO.earlier-N`. With `replace`, or into the current
        folder, they are written in place, each file in one step, and what else is there stays. It counts as one fetch.

        What is fetched is this version, also where another stands on the stage by which it was read. Warns of a version
        that is rejected, retired or damaged; with `strict` raises Conflict. Raises Conflict where `to` holds what no
        download put there, Damaged where what arrived does not match, NotFound for a `path` that it does not have.
        `tick` is told the bytes of each stretch that arrived.
        """
        from kinetrum.client.registry.deployment import Deployed, Fetched, lay_out, lay_over

        files = [entry for entry in self.data["files"] if path in (None, entry["path"])]
        if not files:
            raise NotFound(f"{self.reference} has no file {path!r}.", field="path")
        warning = self.data["warning"]
        if warning and strict:
            raise Conflict(f"{self.reference} was not fetched: {warning}.", field="version")
        fetched = path_of("projects", self._project, "models", self.data["model"], "versions", self._asked, "fetches")
        self._session.service.call("POST", fetched)
        about: JsonObject = {
            "project": self._project,
            "model": self.data["model"],
            "version": self.number,
            "reference": self.reference,
            "digest": f"sha256:{self.digest}",
            "stage": self._asked if self._asked in self.model.stages else None,
            "warning": warning,
        }
        folder, version = Path(to), Deployed(files, about)
        in_place = replace or folder.absolute() == Path.cwd()

        def bring(place: Path) -> list[Path]:
            return download_files(self._session.service, self._path(), files, place, tick, replace)

        paths = lay_over(version, folder, bring) if in_place else lay_out(version, folder, bring, keep)
        if warning:
            warnings.warn(f"{self.reference} was fetched, and {warning}.", stacklevel=2)
        note = {name: about[name] for name in ("project", "model", "version", "digest", "stage", "warning")}
        return Fetched(
            tuple(folder / entry["path"] for entry in files) if paths else (), self.reference, folder, **note
        )

    def __repr__(self) -> str:
        return f"<{self.reference} {self.review}{' on ' + ', '.join(self.stages) if self.stages else ''}>"

    def _repr_html_(self) -> str:
        rows = [[key, show(value)] for key, value in self.values.items()]
        head = f"{self.review}{', on ' + ', '.join(self.stages) if self.stages else ''}"
        return f"<p><b>{html.escape(self.reference)}</b> {html.escape(head)}</p>" + html_table(["", "value"], rows)


def model(name: str, *, project: str | None = None, url: str | None = None) -> Model:
    """Return a model of the registry.

    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved. Raises NotFound where there is none of that name.
    """
    session = open_session(project, url)
    return Model.read(session, session.project, check_name(name, "model"))


def models(
    find: str = "",
    *,
    state: str | None = None,
    project: str | None = None,
    everywhere: bool = False,
    url: str | None = None,
) -> list[Model]:
    """Return the models of a project, or with `everywhere` of all that one may see.

    `find`: words that each stand in name, purpose, person, project or labels. `state`: `pending` (a version waits for
    review), `warning` (something is wrong with an occupant), `unplaced`.
    `url` names another service than the connection's.
    """
    session = open_session(project, url)
    path = path_of("models") if everywhere else path_of("projects", session.project, "models")
    model_list: list[Model] = []
    while True:
        page = session.service.get(path, find=find, state=state, offset=len(model_list), limit=_PAGE)
        model_list += [Model(session, data) for data in page["models"]]
        if len(model_list) >= page["count"] or not page["models"]:
            return model_list
