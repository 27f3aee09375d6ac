"""Sending bytes: only what the service lacks, streamed, verified on the other side."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from kinetrum.client.http import Service, path_of

_PIECE = 1024 * 1024
_DIGESTS_AT_ONCE = 5_000


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(_PIECE):
            yield piece


def upload_missing(service: Service, project: str, sources: dict[str, Path]) -> int:
    """Send those of the files, given by SHA-256, that the project lacks; returns how many that were."""
    digests = sorted(sources)
    sent = 0
    for start in range(0, len(digests), _DIGESTS_AT_ONCE):
        part = digests[start : start + _DIGESTS_AT_ONCE]
        answer = service.call("POST", path_of("projects", project, "blobs", "missing"), json={"sha256": part})
        for sha256 in answer["missing"]:
            path = sources[sha256]
            headers = {"Content-Type": "application/octet-stream", "Content-Length": str(path.stat().st_size)}
            service.call(
                "PUT", path_of("projects", project, "blobs", sha256), content=_pieces(path), headers=headers,
                timeout=600,
            )  # fmt: skip
            sent += 1
    return sent
