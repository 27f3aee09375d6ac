"""Archives that mislead their reader, and sizes that are not true: refused in bounded time, and nothing is kept."""

from __future__ import annotations

import hashlib
import io
import tarfile
import time
from collections.abc import Callable

import httpx
import pytest

from kinetrum.core.base.errors import InvalidInput
from tests.support.world import Project, new_id

TAR = {"Content-Type": "application/x-tar"}


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def header(name: str, size: int) -> bytes:
    """Return one header of an archive, with a size that no honest writer would give."""
    info = tarfile.TarInfo(name)
    raw = bytearray(info.tobuf(tarfile.GNU_FORMAT))
    # Base 256, two's complement: the form for large sizes, in which a size may be negative.
    raw[124:136] = b"\xff" + (size % 256**11).to_bytes(11, "big") if size < 0 else b"\x80" + size.to_bytes(11, "big")
    raw[148:156] = b" " * 8
    raw[148:156] = f"{sum(raw):06o}\0 ".encode()
    return bytes(raw)


def negative(size: int) -> Callable[[], bytes]:
    return lambda: header(sha(b""), 0) + header(sha(b"x"), size) + b"\0" * 1024


def beyond() -> bytes:
    return header(sha(b"x"), 10**12) + b"x" * 512


def link() -> bytes:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as out:
        member = tarfile.TarInfo(sha(b"x"))
        member.type, member.linkname = tarfile.SYMTYPE, "/etc/passwd"
        out.addfile(member)
    return raw.getvalue()


def many() -> bytes:
    return header(sha(b""), 0) * 2_001 + b"\0" * 1024


@pytest.mark.parametrize(
    "body",
    [negative(-512), negative(-1024), negative(-1536), negative(-1), beyond, link, many, lambda: b"\x1f\x8b" * 9_000],
    ids=["back", "further back", "three back", "one", "beyond", "link", "many", "no tar"],
)
def test_archives_that_mislead_are_refused(project: Project, raw: httpx.Client, body: Callable[[], bytes]) -> None:
    began = time.monotonic()
    answer = raw.post(project.path("blobs"), content=body(), headers=TAR, timeout=50)
    assert answer.status_code == 422, answer.text
    # The known loop went on for ever; what reads has three seconds of the processor.
    assert time.monotonic() - began < 30
    assert raw.post(project.path("blobs", "missing"), json={"sha256": [sha(b"")]}).json()["missing"] == [sha(b"")]
    assert list((project.instance.home.store / "incoming").glob("bundle-*")) == []


def test_an_archive_over_its_bound_is_told(project: Project, raw: httpx.Client) -> None:
    answer = raw.post(project.path("blobs"), content=b"x" * (48 * 1024 * 1024 + 1), headers=TAR, timeout=50)
    assert (answer.status_code, "send fewer files" in answer.text) == (413, True)


@pytest.mark.parametrize(("size", "fits"), [(0, False), (6, False), (7, True), (8, False), (10**15, False)])
def test_a_size_is_that_of_the_bytes(project: Project, size: int, fits: bool) -> None:
    service = project.service("contributor")
    service.call("PUT", project.path("blobs", sha(b"seven b")), content=b"seven b")
    files = [{"path": "a.txt", "size": size, "sha256": sha(b"seven b")}]
    body = {"id": new_id(), "at": 10**15, "kind": "data", "files": files}
    path = project.path("artifacts", "sizes", "versions")
    if fits:
        assert service.call("POST", path, json=body)["number"] == 1
    else:
        with pytest.raises(InvalidInput, match=r"a\.txt is said to have .* bytes and has 7"):
            service.call("POST", path, json=body)
