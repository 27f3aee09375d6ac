"""Room from Python: what takes how much, purges, and the check of the store with its repair."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.sender.fingerprints import fingerprint
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


def storage(*, project: str | None = None, url: str | None = None) -> answers.Usage:
    """Return what takes how much in a project: files and bytes, by artifact and by experiment, and its bin.

    `url` names another service than the connection's.
    """
    session = open_session(project, url)
    answer: answers.Usage = session.service.get(path_of("projects", session.project, "storage"))
    return answer


def purge(
    things: Sequence[str] | None = None,
    *,
    only_tell: bool = True,
    keep_files: bool = False,
    project: str | None = None,
    url: str | None = None,
) -> answers.Purge:
    """Tell what purging things of the bin (all of it by default) would free, or with only_tell=False free it for good.

    With runs go the versions that only they generated, unless a model rests on them, they have labels or notes, or
    `keep_files` leaves them.
    Returns the runs and versions, what stays with the reason, and how many files and bytes. For maintainers.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    session = open_session(project, url)
    body = {"things": None if things is None else list(things), "only_tell": only_tell, "keep_files": keep_files}
    answer: answers.Purge = session.service.call(
        "POST", path_of("projects", session.project, "purges"), json=body, timeout=3_600
    )
    return answer


def check_store(session: Session, remove_orphans: bool = False) -> Iterator[JsonObject]:
    """Have every stored file read; yields faults (with `state`) and how far the check is (with `of_files`)."""
    body = {"remove_orphans": remove_orphans}
    with session.service.stream("/storage/checks", method="POST", json=body) as response:
        for line in response.iter_lines():
            if line:
                yield json.loads(line)


def repair(session: Session, faults: Sequence[JsonObject], copies: Path) -> list[str]:
    """Send copies of damaged and missing files, found by content below a folder; returns the digests repaired.

    The folder may be a backup of the store or anything else: names do not matter, every byte is compared.
    """
    wanted = {fault["sha256"]: fault["size_bytes"] for fault in faults if fault["state"] in {"damaged", "missing"}}
    repaired = []
    for source in sorted(copies.rglob("*")):
        if not wanted:
            break
        if not source.is_file() or source.stat().st_size not in wanted.values():
            continue
        sha256 = fingerprint(source).sha256
        if wanted.pop(sha256, None) is None:
            continue
        with source.open("rb") as file:
            size = source.stat().st_size
            session.service.call(
                "PUT",
                path_of("storage", "blobs", sha256),
                content=iter(lambda: file.read(1024 * 1024), b""),
                headers={"Content-Length": str(size)},
                timeout=600,
            )
        repaired.append(sha256)
    return repaired
