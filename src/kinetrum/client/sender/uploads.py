"""Sending bytes: only what the service lacks, several at once, small ones together, large ones taken up again."""

from __future__ import annotations

import io
import os
import tarfile
import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.transport.http import BodyRefused, Service, path_of
from kinetrum.client.transport.progress import Tick, in_turn
from kinetrum.core.base.errors import Conflict, Damaged, InvalidInput, NotFound, Unavailable

_PIECE = 1024 * 1024
_DIGESTS_AT_ONCE = 5_000
_SMALL, _TOGETHER_BYTES, _TOGETHER_FILES = 256 * 1024, 16 * 1024 * 1024, 500
_RESUMED_FROM = 8 * 1024 * 1024
_SIDE_BY_SIDE = 4
_TRIES = 5


@dataclass(frozen=True)
class Sent:
    """How many files and bytes were sent; the rest was there."""

    files: int
    size_bytes: int


def upload_missing(service: Service, project: str, sources: Mapping[str, Path], tick: Tick | None = None) -> Sent:
    """Send those of the files, given by SHA-256, that the project lacks; `tick` is told the bytes that are there.

    Raises Unavailable where the service does not answer, InvalidInput where a file changed meanwhile.
    """
    tell = in_turn(tick)
    wanted = list(_missing(service, project, sources, tell))
    small = [sha256 for sha256, size in wanted if size <= _SMALL]
    large = [sha256 for sha256, size in wanted if size > _SMALL]
    with ThreadPoolExecutor(max_workers=_SIDE_BY_SIDE) as pool:
        jobs = [pool.submit(_send_together, service, project, part, tell) for part in _parts(small, sources)]
        jobs += [pool.submit(_send_one, service, project, sha256, sources[sha256], tell) for sha256 in large]
        try:
            for job in jobs:
                job.result()
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise
    return Sent(len(wanted), sum(size for _, size in wanted))


def _missing(service: Service, project: str, sources: Mapping[str, Path], tell: Tick) -> Iterator[tuple[str, int]]:
    digests = sorted(sources)
    for start in range(0, len(digests), _DIGESTS_AT_ONCE):
        part = digests[start : start + _DIGESTS_AT_ONCE]
        answer = service.call("POST", path_of("projects", project, "blobs", "missing"), json={"sha256": part})
        missing = set(answer["missing"])
        for sha256 in part:
            if sha256 in missing:
                yield sha256, size_of(sources[sha256])
            elif sources[sha256].exists():
                # What is there already may be gone here.
                tell(size_of(sources[sha256]))


def _parts(digests: Sequence[str], sources: Mapping[str, Path]) -> Iterator[list[tuple[str, Path]]]:
    part: list[tuple[str, Path]] = []
    size = 0
    for sha256 in digests:
        part.append((sha256, sources[sha256]))
        size += sources[sha256].stat().st_size
        if size >= _TOGETHER_BYTES or len(part) >= _TOGETHER_FILES:
            yield part
            part, size = [], 0
    if part:
        yield part


def _send_together(service: Service, project: str, part: list[tuple[str, Path]], tell: Tick) -> None:
    raw = io.BytesIO()
    sizes = 0
    for sha256, source in part:
        content = source.read_bytes()
        member = tarfile.TarInfo(sha256)
        member.size = len(content)
        raw.write(member.tobuf(tarfile.USTAR_FORMAT))
        raw.write(content + bytes(-len(content) % 512))
        sizes += len(content)
    raw.write(bytes(1024))
    body = raw.getvalue()
    if len(body) > (service.body_limit or len(body)):
        _send_each(service, project, part, tell)
        return
    try:
        service.call(
            "POST",
            path_of("projects", project, "blobs"),
            content=body,
            headers={"Content-Type": "application/x-tar"},
            timeout=600,
        )
    except BodyRefused:
        service.note_body_refused(len(body))
        _send_each(service, project, part, tell)
        return
    except Damaged as error:
        raise _changed(part[0][1]) from error
    tell(sizes)


def _send_each(service: Service, project: str, part: list[tuple[str, Path]], tell: Tick) -> None:
    for sha256, source in part:
        _send_one(service, project, sha256, source, tell)


def _changed(source: Path) -> InvalidInput:
    return InvalidInput(f"{source}, or a file beside it, changed while it was being sent; record it again.")


def _send_one(service: Service, project: str, sha256: str, source: Path, tell: Tick) -> None:
    path = path_of("projects", project, "blobs", sha256)
    size = source.stat().st_size
    try:
        if size >= min(_RESUMED_FROM, service.body_limit or _RESUMED_FROM) or not _sent_whole(
            service, path, source, size, tell
        ):
            _send_resumed(service, path, source, size, tell)
    except Damaged as error:
        raise _changed(source) from error


def _sent_whole(service: Service, path: str, source: Path, size: int, tell: Tick) -> bool:
    """Send a small file in one body; tells whether no proxy refused it as too large."""
    headers = {"Content-Type": "application/octet-stream", "Content-Length": str(size)}
    count_told = 0

    def counted(count: int) -> None:
        nonlocal count_told
        count_told += count
        tell(count)

    try:
        service.call("PUT", path, content=_pieces(source, 0, size, counted), headers=headers, timeout=600)
    except BodyRefused:
        service.note_body_refused(size)
        tell(-count_told)
        return False
    return True


def _pieces(source: Path, offset: int, length: int, tell: Tick) -> Iterator[bytes]:
    with source.open("rb", buffering=0) as file:
        file.seek(offset)
        left = length
        while left > 0:
            piece = file.read(min(_PIECE, left))
            if not piece:
                raise _changed(source)
            left -= len(piece)
            tell(len(piece))
            yield piece


def _send_resumed(service: Service, path: str, source: Path, size: int, tell: Tick) -> None:
    """Send from where the service has it; a broken connection is taken up again as long as it gets on.

    Where a proxy refuses bodies of this size, the file goes in parts that it takes.
    """
    count_told, tries, last = 0, 0, -1

    def counted(count: int) -> None:
        nonlocal count_told
        count_told += count
        tell(count)

    while True:
        state = service.get(f"{path}/upload")
        offset = state["offset"]
        if state["complete"] or offset > size:
            counted(size - count_told)
            if not state["complete"]:
                raise _changed(source)
            return
        tries = 0 if offset > last else tries + 1
        last = offset
        counted(offset - count_told)
        try:
            _send_from(service, path, source, offset, size, counted)
            return
        except BodyRefused:
            # The refusal counts for nothing: the next, smaller one may be taken.
            last = -1
        except (Conflict, Unavailable):
            # Conflict: somebody sends the same bytes just now, and may be done soon.
            if tries >= _TRIES:
                raise
            time.sleep(min(0.2 * 2**tries, 5.0))


def _send_from(service: Service, path: str, source: Path, offset: int, size: int, tell: Tick) -> None:
    """Send the rest of a file; raises BodyRefused where smaller parts are worth another try."""
    while True:
        length = min(size - offset, service.body_limit or size)
        headers = {
            "Content-Type": "application/octet-stream",
            "Content-Length": str(length),
            "Upload-Offset": str(offset),
            "Upload-Length": str(size),
        }
        try:
            service.call("PATCH", path, content=_pieces(source, offset, length, tell), headers=headers, timeout=600)
        except BodyRefused as error:
            if not service.note_body_refused(length):
                raise Unavailable(str(error)) from error
            raise
        offset += length
        if offset >= size:
            return


def size_of(source: Path) -> int:
    """Return a file's size in bytes; raises NotFound where it is gone."""
    try:
        return os.stat(source).st_size
    except OSError as error:
        raise NotFound(f"{source} cannot be read ({error.strerror}).", field="path") from None
