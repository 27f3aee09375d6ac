"""What an archive says of itself to any reader: `ro-crate-metadata.json`, an RO-Crate 1.1 description."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from kinetrum.core.archives.archive import ARCHIVE, Contents, RunRecord, VersionRecord, folder_of

METADATA = "ro-crate-metadata.json"
LISTED_FILES = 2_000


def describe_crate(contents: Contents, runs: Sequence[RunRecord], title: str, license_text: str) -> dict[str, Any]:
    """Return `ro-crate-metadata.json`: the root, a data set for each run and version, an action for each run."""
    graph: list[dict[str, Any]] = [
        {
            "@id": METADATA,
            "@type": "CreativeWork",
            "about": {"@id": "./"},
            "conformsTo": {"@id": "https://w3id.org/ro/crate/1.1"},
        }
    ]
    parts: list[dict[str, Any]] = [
        {
            "@id": ARCHIVE,
            "@type": "File",
            "name": "What is needed to take this in again",
            "encodingFormat": "application/json",
        }
    ]
    for version in contents.versions:
        parts += _version_parts(version)
    people: dict[str, dict[str, Any]] = {}
    actions = []
    for run in runs:
        parts += _run_parts(run)
        who = f"#person-{run.by.name}"
        people[who] = {"@id": who, "@type": "Person", "name": run.by.full_name}
        actions.append(_action(run, who))
    root = {
        "@id": "./",
        "@type": "Dataset",
        "name": title,
        "datePublished": contents.exported_at,
        "description": f"{len(runs)} runs and {len(contents.versions)} versions from {contents.source}.",
        "license": license_text,
        "hasPart": [{"@id": part["@id"]} for part in parts],
        "mentions": [{"@id": action["@id"]} for action in actions],
    }
    return {
        "@context": "https://w3id.org/ro/crate/1.1/context",
        "@graph": [*graph, root, *parts, *people.values(), *actions],
    }


def _version_parts(version: VersionRecord) -> list[dict[str, Any]]:
    folder: dict[str, Any] = {
        "@id": folder_of(version.name, version.number),
        "@type": "Dataset",
        "name": version.reference,
        "identifier": f"sha256:{version.digest}",
    }
    files = [
        {"@id": place, "@type": "File", "name": entry.path, "contentSize": str(entry.size), "sha256": entry.sha256}
        for entry in version.files[:LISTED_FILES]
        if (place := version.inside.get(entry.sha256, "")).startswith(str(folder["@id"]))
        and place == f"{folder['@id']}{entry.path}"
    ]
    if files:
        folder["hasPart"] = [{"@id": entry["@id"]} for entry in files]
    return [folder, *files]


def _run_parts(run: RunRecord) -> list[dict[str, Any]]:
    folder = f"runs/{run.uid}/"
    return [
        {
            "@id": folder,
            "@type": "Dataset",
            "name": f"{run.experiment}/{run.number}",
            "hasPart": [{"@id": f"{folder}run.json"}, {"@id": f"{folder}points.csv"}],
        },
        {
            "@id": f"{folder}run.json",
            "@type": "File",
            "name": "What was set and achieved",
            "encodingFormat": "application/json",
        },
        {"@id": f"{folder}points.csv", "@type": "File", "name": "Metrics over steps", "encodingFormat": "text/csv"},
    ]


def _action(run: RunRecord, who: str) -> dict[str, Any]:
    ends = {"finished": "CompletedActionStatus", "failed": "FailedActionStatus", "running": "ActiveActionStatus"}
    action: dict[str, Any] = {
        "@id": f"#run-{run.uid}",
        "@type": "CreateAction",
        "name": f"{run.experiment}/{run.number}",
        "agent": {"@id": who},
        "startTime": _iso(run.started_at),
        "actionStatus": f"http://schema.org/{ends.get(run.status, 'FailedActionStatus')}",
    }
    if run.ended_at is not None:
        action["endTime"] = _iso(run.ended_at)
    for word, relation in (("object", "used"), ("result", "generated")):
        ids = [{"@id": folder_of(link.name, link.number)} for link in run.links if link.relation == relation]
        if ids:
            action[word] = list({part["@id"]: part for part in ids}.values())
    return action


def _iso(micros: int) -> str:
    """Write microseconds since 1970 as ISO 8601; NumPy's calendar, since the core has no clock."""
    import numpy as np

    return f"{np.datetime64(micros, 'us')}Z"
