"""What surrounds a run: code and packages, use of the machine, activities, progress."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from kinetrum.actions.context import Actor, Place, enter
from kinetrum.actions.search.references import find_run, run_named, run_to_write
from kinetrum.core.base.errors import InvalidInput, NotFound, TooLarge
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.run_document import Activity, Progress, RunDoc
from kinetrum.core.base.samples import Samples, check_samples, joined, thinned
from kinetrum.core.base.values import Value, check_name
from kinetrum.core.compare.environment import PackageChange, changes, code_change, text_difference
from kinetrum.storage.data import texts
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.live import events
from kinetrum.storage.runs import resources, run_documents, runs
from kinetrum.storage.runs.runs import Run

TEXT_LIMIT, PACKAGES_LIMIT, ACTIVITIES_LIMIT = 2 * 1024 * 1024, 5_000, 1_000


@dataclass(frozen=True)
class RecordedEnvironment:
    """What a client found around a run; parts that were left out are None or empty."""

    code: dict[str, Any] | None = None
    difference: str | None = None
    script: str | None = None
    packages: dict[str, str] | None = None
    job: dict[str, str] | None = None
    about: dict[str, Value] = field(default_factory=dict)


@dataclass(frozen=True)
class Surroundings:
    """The surroundings of a run, and against another run what of them differs."""

    code: dict[str, Any] | None
    difference: str | None
    script: str | None
    packages: dict[str, str]
    job: dict[str, str]
    about: dict[str, Value]
    against: str | None = None
    against_code: dict[str, Any] | None = None
    code_change: str | None = None
    code_change_text: str | None = None
    package_changes: tuple[PackageChange, ...] = ()
    about_changes: tuple[PackageChange, ...] = ()


@transaction
def add_surroundings(actor: Actor, project: str, experiment: str, run_ref: str, caught: RecordedEnvironment) -> None:
    """Keep what was caught around a run. Sent again, it replaces what was sent before."""
    place, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    for name, text in (("difference", caught.difference), ("script", caught.script)):
        if text:
            if len(text) > TEXT_LIMIT:
                raise TooLarge(f"The {name} has {len(text)} characters; up to {TEXT_LIMIT} are kept.")
            doc.texts[name] = texts.keep_text(place.project_id, text)
    if caught.packages is not None:
        if len(caught.packages) > PACKAGES_LIMIT:
            raise TooLarge(f"{len(caught.packages)} packages; up to {PACKAGES_LIMIT} are kept.")
        doc.texts["packages"] = texts.keep_text(place.project_id, json.dumps(caught.packages, sort_keys=True))
    if caught.code is not None:
        doc.code = caught.code
    if caught.job is not None:
        doc.job = caught.job
    doc.about.update(caught.about)
    run_documents.save_doc(run, doc, {})
    runs.sign_of_life(run.run_id)


@snapshot
def read_surroundings(
    actor: Actor, project: str, experiment: str, run_ref: str, against: str | None = None
) -> Surroundings:
    """Return a run's surroundings; `against` is another run's reference, `previous` or `parent`, to compare with.

    `previous` is the run of the experiment before it. Raises NotFound where there is none.
    """
    place = enter(actor, project)
    run = find_run(place, experiment, run_ref)
    doc = run_documents.load_doc(run.run_id)
    here = _texts(place, doc)
    packages = json.loads(here.get("packages", "{}"))
    if against is None:
        return Surroundings(doc.code or None, here.get("difference"), here.get("script"), packages, doc.job, doc.about)
    other = _other(place, run, against)
    other_doc = run_documents.load_doc(other.run_id)
    there = _texts(place, other_doc)
    name = "difference" if "difference" in here or "difference" in there else "script"
    return Surroundings(
        doc.code or None,
        here.get("difference"),
        here.get("script"),
        packages,
        doc.job,
        doc.about,
        against=other.reference,
        against_code=other_doc.code or None,
        code_change=code_change(doc.code, other_doc.code, doc.texts, other_doc.texts),
        # Where the other had no uncommitted changes, these are the difference as they stand.
        code_change_text=here[name]
        if name == "difference" and name in here and name not in there
        else text_difference(there.get(name), here.get(name), other.reference, run.reference),
        package_changes=tuple(changes(packages, json.loads(there.get("packages", "{}")))),
        about_changes=tuple(changes(_comparable(run, doc), _comparable(other, other_doc))),
    )


def _comparable(run: Run, doc: RunDoc) -> dict[str, Value]:
    """What tells two runs' surroundings apart; that processes have different numbers does not."""
    return {"host": run.host} | {key: value for key, value in doc.about.items() if key != "process"}


def _other(place: Place, run: Run, against: str) -> Run:
    if against == "parent":
        other = runs.run_by_uid(run.parent_uid) if run.parent_uid else None
        if other is None or other.project_id != place.project_id:
            raise NotFound(f"{run.reference} has no parent.", field="against")
        return other
    if against == "previous":
        other = runs.previous_run(run)
        if other is None:
            raise NotFound(f"{run.reference} is the first of its experiment.", field="against")
        return other
    return run_named(place, against)


def _texts(place: Place, doc: RunDoc) -> dict[str, str]:
    run_texts = {name: texts.read_text(place.project_id, digest) for name, digest in doc.texts.items()}
    return {name: text for name, text in run_texts.items() if text is not None}


@transaction
def add_resources(actor: Actor, project: str, experiment: str, run_ref: str, uid: str, samples: Samples) -> None:
    """Keep samples of what a run used of its machine. Sent again under the same id, nothing changes."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    if resources.add_block(run.run_id, id_bytes(uid), check_samples(samples)):
        events.tell_run(run.run_id, "resources")
    runs.sign_of_life(run.run_id)


@snapshot
def read_resources(actor: Actor, project: str, experiment: str, run_ref: str, width: int) -> Samples:
    """Return samples of what a run used of its machine, at most `width`."""
    if not 10 <= width <= 4_000:
        raise InvalidInput(f"A width is 10 to 4000, not {width}.", field="width")
    run = find_run(enter(actor, project), experiment, run_ref)
    return thinned(joined(resources.read_blocks(run.run_id)), width)


@transaction
def add_activity(actor: Actor, project: str, experiment: str, run_ref: str, new: Activity) -> None:
    """Keep an activity, or under the same id its end."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    id_bytes(new.uid)
    check_name(new.name, "activity")
    if new.ended_at is not None and new.ended_at < new.started_at:
        raise InvalidInput("The activity ends before it starts.", field="ended_at")
    doc = run_documents.lock_doc(run.run_id)
    others = [activity for activity in doc.activities if activity.uid != new.uid]
    known = next((activity for activity in doc.activities if activity.uid == new.uid), None)
    if known is not None and known.ended_at is not None and new.ended_at is None:
        return
    if len(others) >= ACTIVITIES_LIMIT:
        raise TooLarge(f"{run.reference} has {ACTIVITIES_LIMIT} activities; more are not kept.")
    doc.activities = sorted([*others, new], key=lambda activity: (activity.started_at, activity.uid))
    run_documents.save_doc(run, doc, {})
    runs.sign_of_life(run.run_id)


@transaction
def set_progress(actor: Actor, project: str, experiment: str, run_ref: str, progress: Progress) -> None:
    """Note how far the run is; what was told later stays."""
    _, run = run_to_write(actor, project, experiment, run_ref)
    doc = run_documents.lock_doc(run.run_id)
    if doc.progress is None or doc.progress.at < progress.at:
        doc.progress = progress
        run_documents.save_doc(run, doc, {})
    runs.sign_of_life(run.run_id)
