"""Reading what an archive says: every part is checked, since whoever wrote it may be anybody."""

from __future__ import annotations

from typing import Any

from kinetrum.core.archives.archive import (
    ARCHIVE,
    FORMAT,
    STATUSES,
    ArtifactRecord,
    Contents,
    ExperimentRecord,
    LinkRecord,
    NoteRecord,
    Person,
    PlotRecord,
    RunRecord,
    VersionRecord,
)
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.goals import make_goal
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.manifests import FileEntry, check_manifest, digest_of
from kinetrum.core.base.run_document import Activity, Problem, Progress, Result, RunDoc
from kinetrum.core.base.values import NOTE_LIMIT, check_key, check_label, check_name, from_json
from kinetrum.core.plots import read_plot
from kinetrum.core.statistics.replicates import SEEDS

MICROS_LIMIT = 2**55
LEASE_LIMIT_S = 2**31
_REFUSED = "The archive cannot be read"


def read_run(data: Any, where: str) -> RunRecord:
    """Read a run; raises InvalidInput that names the place in the archive."""
    try:
        return _run(data)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise refuse(where, error) from None


def refuse(where: str, error: Exception) -> InvalidInput:
    """Return the error that names the place in an archive where something is wrong."""
    if isinstance(error, InvalidInput) and str(error).startswith(_REFUSED):
        # A part of it was refused, which names its place more closely.
        return error
    if isinstance(error, KinetrumError):
        what = str(error)
    elif isinstance(error, KeyError):
        what = f"{error} is missing."
    else:
        what = f"It has another form than an archive has there ({error})."
    return InvalidInput(f"{_REFUSED} at {where}: {what}", field=where)


def read_person(data: Any) -> Person:
    """Read who did something."""
    return Person(str(data["name"])[:100], str(data["full_name"])[:200])


def check_micros(value: Any) -> int:
    """Return a time in microseconds since 1970, up to some thousand years; raises InvalidInput."""
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < MICROS_LIMIT:
        raise InvalidInput(f"{value!r} is not a time in microseconds since 1970.")
    return value


def read_text(value: Any, limit: int) -> str | None:
    """Read a text, cut at a limit; None stays None."""
    return None if value is None else str(value)[:limit]


def read_id(value: Any) -> str:
    """Read an id that a client made; raises InvalidInput."""
    id_bytes(value)
    return str(value)


def read_number(value: Any) -> int:
    """Read a number from 1 on; raises InvalidInput."""
    if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value < 2**31:
        raise InvalidInput(f"{value!r} is not a number of a run or version.")
    return value


def read_labels(data: Any) -> dict[str, str]:
    """Read labels; raises InvalidInput."""
    return {key: check_label(key, text) for key, text in data.items()}


def _run(data: Any) -> RunRecord:
    if data["status"] not in STATUSES:
        raise InvalidInput(f"Unknown status {data['status']!r}.")
    results = [
        (read_id(uid), check_key(key, "result"), from_json(value, key), check_micros(at))
        for uid, key, value, at in data["results"]
    ]
    progress = data.get("progress")
    doc = RunDoc(
        params={check_key(key): from_json(value, key) for key, value in data["params"].items()},
        labels=read_labels(data["labels"]),
        about={check_key(key): from_json(value, key) for key, value in data["about"].items()},
        code=_code(data["code"]),
        job={str(key): str(text) for key, text in data["job"].items()},
        problems=[Problem(str(p["uid"])[:64], str(p["text"])[:2_000], check_micros(p["at"])) for p in data["problems"]],
        activities=[
            Activity(
                read_id(a["uid"]),
                str(a["name"])[:100],
                check_micros(a["started_at"]),
                None if a["ended_at"] is None else check_micros(a["ended_at"]),
                bool(a["failed"]),
            )
            for a in data["activities"]
        ],
        progress=Progress(
            int(progress["done"]),
            progress["total"] and int(progress["total"]),
            check_micros(progress["since"]),
            check_micros(progress["at"]),
        )
        if progress
        else None,
    )
    for _, key, value, at in sorted(results, key=lambda result: result[3]):
        doc.results[key] = Result(value, at)
    return RunRecord(
        read_id(data["id"]),
        check_name(data["experiment"], "experiment"),
        read_number(data["number"]),
        read_text(data["name"], 200),
        data["status"],
        read_text(data["reason"], 4_000),
        read_person(data["by"]),
        str(data["host"])[:200],
        read_id(data["parent"]) if data["parent"] else None,
        check_micros(data["started_at"]),
        None if data["ended_at"] is None else check_micros(data["ended_at"]),
        _check_lease(data["lease_s"]),
        doc,
        results,
        [_link(link) for link in data["links"]],
        [read_note(note) for note in data["notes"]],
        {str(name)[:40]: str(text) for name, text in data["texts"].items()},
    )


_CODE_TEXTS = {"address": 500, "commit": 64, "branch": 250, "state": 40, "entry": 500, "cut": 200}
_CODE_COUNTS = frozenset({"changed_files", "untracked_files", "hidden_lines"})


def _code(data: Any) -> dict[str, Any]:
    """Read the state of a repository; raises InvalidInput for a field that no repository has."""
    code: dict[str, Any] = {}
    for name, value in dict(data).items():
        if name in _CODE_TEXTS and (value is None or isinstance(value, str)):
            code[name] = read_text(value, _CODE_TEXTS[name])
        elif name in _CODE_COUNTS and type(value) is int and 0 <= value < MICROS_LIMIT:
            code[name] = value
        elif name == "untracked_code" and isinstance(value, list) and all(isinstance(file, str) for file in value):
            code[name] = [file[:500] for file in value[:100]]
        else:
            raise InvalidInput(f"The code's {str(name)[:40]!r} is {str(value)[:80]!r}, which it cannot be.")
    return code


def _check_lease(value: Any) -> int:
    if type(value) is not int or not 0 < value < LEASE_LIMIT_S:
        raise InvalidInput(f"{str(value)[:40]} cannot be a lease in seconds.")
    return value


def _link(data: Any) -> LinkRecord:
    if data["relation"] not in {"used", "generated"}:
        raise InvalidInput(f"Unknown relation {data['relation']!r}. Choose one of: used, generated.")
    step = read_step(data["step"])
    return LinkRecord(
        read_id(data["uid"]),
        data["relation"],
        check_name(data["name"], "artifact"),
        read_number(data["number"]),
        check_micros(data["at"]),
        read_text(data["role"], 100),
        step,
        read_text(data["activity"], 100),
        read_text(data["keep"], 300),
    )


def read_plot_record(data: Any) -> PlotRecord:
    """Read a plot; raises InvalidInput or TooLarge that names the part at fault."""
    try:
        return PlotRecord(
            read_id(data["id"]),
            check_key(data["name"], "plot"),
            read_step(data["step"]),
            check_micros(data["at"]),
            data["declared"] is True,
            read_plot(data),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise InvalidInput(f"{type(error).__name__} {error}") from None


def read_step(value: Any) -> int | None:
    """Read a step, or None; raises InvalidInput."""
    if value is not None and (type(value) is not int or abs(value) > 2**62):
        raise InvalidInput(f"{value!r} is not a step.")
    return value if value is None else int(value)


def read_note(data: Any) -> NoteRecord:
    """Read a note; raises InvalidInput."""
    return NoteRecord(
        read_id(data["uid"]), read_person(data["by"]), str(data["text"])[:NOTE_LIMIT], check_micros(data["at"])
    )


def read_contents(data: Any) -> Contents:
    """Read the list of an archive's contents; raises InvalidInput, for a later format with the way out."""
    where = ARCHIVE
    try:
        if data["format"] != FORMAT:
            raise InvalidInput(
                f"The archive has format {data['format']!r}; this program reads {FORMAT}. Use one as new as its writer."
            )
        experiments = tuple(
            ExperimentRecord(
                check_name(record["name"], "experiment"),
                str(record["description"])[:10_000],
                tuple(
                    make_goal(
                        check_key(goal["key"]),
                        goal["direction"],
                        goal["unit"],
                        _bound(goal["bound"]),
                        goal["aggregate"],
                    )
                    for goal in record["goals"]
                ),
                # Archives of earlier versions do not tell these.
                read_labels(record.get("labels", {})),
                tuple(check_key(name) for name in record.get("seeds", SEEDS)),
                record.get("generates_names", True) is True,
                tuple(check_name(name, "experiment") for name in record.get("earlier_names", ())),
            )
            for record in data["experiments"]
        )
        artifacts = tuple(
            ArtifactRecord(
                check_name(record["name"], "artifact"),
                _kind(record["kind"]),
                str(record["description"])[:10_000],
                read_labels(record["labels"]),
            )
            for record in data["artifacts"]
        )
        versions = tuple(read_version(record) for record in data["versions"])
        runs = tuple(read_id(uid) for uid in data["runs"])
        return Contents(
            str(data["source"])[:150], str(data["exported_at"])[:40], experiments, artifacts, versions, runs
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise refuse(where, error) from None


def _bound(value: Any) -> float | None:
    bound = from_json(value, "bound")
    if bound is None or (isinstance(bound, int | float) and not isinstance(bound, bool)):
        return None if bound is None else float(bound)
    raise InvalidInput(f"{value!r} is not a bound.")


def _kind(text: Any) -> str:
    if not isinstance(text, str) or not text or len(text) > 40 or not text.isprintable():
        raise InvalidInput(f"{text!r} cannot be a kind.")
    return text


def read_version(data: Any) -> VersionRecord:
    """Read a version\'s record."""
    files = check_manifest([FileEntry(*row[:5]) for row in data["files"]])
    if digest_of(files) != data["digest"]:
        raise InvalidInput(f"The files listed for {data['name']}@{data['number']} do not have its digest.")
    return VersionRecord(
        check_name(data["name"], "artifact"),
        _kind(data["kind"]),
        read_number(data["number"]),
        data["digest"],
        bool(data["by_reference"]),
        read_text(data["address"], 1_000),
        read_person(data["by"]),
        check_micros(data["made_at"]),
        files,
        {row[2]: str(row[5]) for row in data["files"] if row[5] is not None},
        dict(data["about"]),
        read_labels(data["labels"]),
    )
