"""Bytes in and out, versions, differences and uses, over HTTP, as a client that nobody wrote for us would ask."""

from __future__ import annotations

import base64
import hashlib
import io
import os
import tarfile
import threading
import zipfile
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from tests.support.world import Project, new_id


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def keep(project: Project, name: str, contents: dict[str, bytes], sent: bool = False, **fields: Any) -> dict[str, Any]:
    """Upload files, unless they were sent already, and make a version of them."""
    service = project.service("contributor")
    files = []
    for path, content in contents.items():
        if not sent:
            service.call("PUT", project.path("blobs", sha(content)), content=content)
        files.append({"path": path, "size": len(content), "sha256": sha(content)})
    body = {"id": new_id(), "at": 1, "kind": "data", "files": files, **fields}
    made: dict[str, Any] = service.call("POST", project.path("artifacts", name, "versions"), json=body)
    return made


def bundle(contents: list[tuple[str, bytes]]) -> bytes:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as out:
        for name, content in contents:
            member = tarfile.TarInfo(name)
            member.size = len(content)
            out.addfile(member, io.BytesIO(content))
    return raw.getvalue()


def test_an_upload_goes_on_where_it_broke_off(project: Project, raw: httpx.Client) -> None:
    body = os.urandom(3_000_000)
    path = project.path("blobs", sha(body))
    assert raw.get(f"{path}/upload").json() == {"offset": 0, "complete": False}
    first = {"Upload-Offset": "0", "Upload-Length": str(len(body))}
    assert raw.patch(path, content=body[:1_000_000], headers=first).json() == {"offset": 1_000_000, "complete": False}
    assert raw.get(f"{path}/upload").headers["Upload-Offset"] == "1000000"
    again = raw.patch(path, content=body[:10], headers=first)
    assert again.status_code == 409
    assert "1000000 bytes have arrived, not 0" in again.json()["detail"]
    rest = raw.patch(path, content=body[1_000_000:], headers=first | {"Upload-Offset": "1000000"})
    assert rest.json() == {"offset": len(body), "complete": True}
    assert raw.get(f"{path}/upload").json() == {"offset": len(body), "complete": True}
    assert raw.post(project.path("blobs", "missing"), json={"sha256": [sha(body)]}).json() == {"missing": []}


def test_an_upload_that_is_something_else_leaves_nothing(project: Project, raw: httpx.Client) -> None:
    path = project.path("blobs", sha(b"promised"))
    headers = {"Upload-Offset": "0", "Upload-Length": "9"}
    assert raw.patch(path, content=b"delivered", headers=headers).json()["type"].endswith(":damaged")
    assert raw.get(f"{path}/upload").json() == {"offset": 0, "complete": False}
    more = raw.patch(path, content=b"far more than was announced", headers=headers)
    assert (more.status_code, more.json()["field"]) == (422, "Upload-Length")
    assert raw.get(f"{path}/upload").json()["complete"] is False


def test_two_uploads_of_one_file_at_once(project: Project) -> None:
    body = os.urandom(400_000)
    answers: list[int] = []

    def send() -> None:
        with httpx.Client(
            base_url=project.instance.url + "/api/v1",
            headers={"Authorization": f"Bearer {project.tokens['contributor']}"},
        ) as client:
            answers.append(client.put(project.path("blobs", sha(body)), content=body).status_code)

    threads = [threading.Thread(target=send) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == [200] * 6
    stored = project.instance.home.store / sha(body)[:2] / sha(body)
    assert stored.read_bytes() == body


def test_many_small_files_come_together_or_not_at_all(project: Project, raw: httpx.Client) -> None:
    contents = [(sha(str(at).encode()), str(at).encode()) for at in range(300)]
    tar = {"Content-Type": "application/x-tar"}
    assert raw.post(project.path("blobs"), content=bundle(contents), headers=tar).json() == {"kept": 300}
    wrong = [(sha(b"new one"), b"new one"), (sha(b"x"), b"y")]
    assert raw.post(project.path("blobs"), content=bundle(wrong), headers=tar).json()["type"].endswith(":damaged")
    assert raw.post(project.path("blobs", "missing"), json={"sha256": [wrong[0][0]]}).json()["missing"] == [wrong[0][0]]
    for body in (b"no tar at all" * 100, bundle([("../../evil", b"x")])):
        assert raw.post(project.path("blobs"), content=body, headers=tar).status_code == 422
    told = raw.post(project.path("blobs"), content=b"from a browser").json()
    assert told == {"sha256": sha(b"from a browser"), "size_bytes": 14}


def test_parts_of_a_file(project: Project, raw: httpx.Client) -> None:
    body = bytes(range(256)) * 20_000
    keep(project, "nights", {"a/big.bin": body})
    path = project.path("artifacts", "nights", "versions", "1", "files", "a", "big.bin")
    part = raw.get(path, headers={"Range": "bytes=1000000-1999999"})
    assert (part.status_code, part.content) == (206, body[1_000_000:2_000_000])
    assert part.headers["Content-Range"] == f"bytes 1000000-1999999/{len(body)}"
    assert raw.get(path, headers={"Range": "bytes=-10"}).content == body[-10:]
    assert raw.get(path, headers={"Range": f"bytes={len(body) - 3}-"}).content == body[-3:]
    beyond = raw.get(path, headers={"Range": f"bytes={len(body)}-"})
    assert (beyond.status_code, beyond.headers["Content-Range"]) == (416, f"bytes */{len(body)}")
    whole = raw.get(path, headers={"Range": "bytes=0-1,5-9"})
    assert (whole.status_code, whole.content) == (200, body)
    assert raw.get(path, headers={"Range": "bytes=0-9", "If-Range": '"other"'}).status_code == 200
    same = raw.get(path, headers={"If-None-Match": whole.headers["ETag"]})
    assert (same.status_code, same.content) == (304, b"")
    assert base64.b64encode(hashlib.sha256(body).digest()).decode() in whole.headers["Repr-Digest"]


def test_a_version_as_one_archive(project: Project, raw: httpx.Client) -> None:
    contents = {"2024/ü.csv": b"1", "2024/two.csv": b"22", "2025/three.csv": b"333" * 100_000}
    keep(project, "nights", contents)
    path = project.path("artifacts", "nights", "versions", "1", "bundle")
    with zipfile.ZipFile(io.BytesIO(raw.get(path).content)) as archive:
        assert {name: archive.read(name) for name in archive.namelist()} == contents
    with tarfile.open(fileobj=io.BytesIO(raw.get(path, params={"form": "tar", "up_to_bytes": 2}).content)) as archive:
        assert archive.getnames() == ["2024/two.csv", "2024/ü.csv"]
    with zipfile.ZipFile(io.BytesIO(raw.get(path, params={"folder": "2025"}).content)) as archive:
        assert archive.namelist() == ["2025/three.csv"]


def test_damaged_bytes_are_never_served(project: Project, raw: httpx.Client) -> None:
    body = os.urandom(2_500_000)
    keep(project, "nights", {"big.bin": body, "small.txt": b"fine"})
    stored = project.instance.home.store / sha(body)[:2] / sha(body)
    stored.write_bytes(body[:-1] + bytes([body[-1] ^ 1]))
    base = project.path("artifacts", "nights", "versions", "1")
    with pytest.raises(httpx.HTTPError):
        raw.get(f"{base}/files/big.bin")
    assert raw.get(f"{base}/files/big.bin", headers={"Range": "bytes=0-9"}).json()["type"].endswith(":damaged")
    assert raw.get(f"{base}/preview", params={"path": "big.bin"}).json()["type"].endswith(":damaged")
    with pytest.raises(httpx.HTTPError):
        raw.get(f"{base}/bundle")
    assert raw.get(base).json()["damaged"] is True
    raw.put(project.path("blobs", sha(body)), content=body)
    assert raw.get(f"{base}/files/big.bin").content == body
    assert raw.get(base).json()["damaged"] is False


def test_files_of_strangers_run_nowhere(project: Project, raw: httpx.Client) -> None:
    page = b"<html><script>alert(1)</script></html>"
    picture = b"\x89PNG\r\n\x1a\n" + bytes(40)
    keep(
        project, "site", {"index.html": page, "x.svg": b"<svg onload='alert(1)'/>", "a.png": picture, "evil.png": page}
    )
    base = project.path("artifacts", "site", "versions", "1")
    for name in ("index.html", "x.svg"):
        for show in (False, True):
            answer = raw.get(f"{base}/files/{name}", params={"show": show})
            assert answer.headers["Content-Type"] == "application/octet-stream"
            assert answer.headers["Content-Disposition"].startswith("attachment")
            assert answer.headers["Content-Security-Policy"] == "sandbox; default-src 'none'"
    shown = raw.get(f"{base}/files/a.png", params={"show": True})
    assert (shown.headers["Content-Type"], shown.headers["X-Content-Type-Options"]) == ("image/png", "nosniff")
    assert raw.get(f"{base}/preview", params={"path": "a.png"}).json()["kind"] == "image"
    assert raw.get(f"{base}/preview", params={"path": "evil.png"}).json()["kind"] == "text"
    assert raw.get(f"{base}/preview", params={"path": "index.html"}).json()["text"] == page.decode()


def test_metadata_labels_and_description(project: Project, raw: httpx.Client) -> None:
    made = keep(
        project, "nights", {"a.csv": b"1"}, about={"seasons": 5, "source": {"logger": "x"}}, labels={"state": "raw"}
    )
    assert (made["about"], made["labels"]) == ({"seasons": 5, "source": {"logger": "x"}}, {"state": "raw"})
    assert (
        raw.patch(
            project.path("artifacts", "nights"), json={"description": "One row a night", "labels": {"team": "frost"}}
        ).status_code
        == 204
    )
    labels = raw.patch(
        project.path("artifacts", "nights", "versions", "1", "labels"), json={"labels": {"state": None, "good": "yes"}}
    )
    assert labels.json()["labels"] == {"good": "yes"}
    found = raw.get(project.path("artifacts", "nights")).json()
    assert (found["description"], found["labels"]) == ("One row a night", {"team": "frost"})
    big = {
        "id": new_id(),
        "at": 1,
        "by_reference": True,
        "files": [{"path": "a", "size": 1, "sha256": "a" * 64}],
        "about": {"x": "y" * 70_000},
    }
    assert raw.post(project.path("artifacts", "nights", "versions"), json=big).json()["field"] == "about"


def test_numbers_follow_content(project: Project) -> None:
    first, second = {"a.csv": b"1"}, {"a.csv": b"2"}
    assert [keep(project, "nights", files)["number"] for files in (first, first, second, first)] == [1, 1, 2, 3]
    # Who uses older content makes it no newer.
    begun = project.begin()
    entry = {"path": "a.csv", "size": 1, "sha256": sha(b"2")}
    body = {"id": new_id(), "at": 1, "name": "nights", "by_reference": True, "address": "/data/a.csv", "files": [entry]}
    used = project.service("contributor").call("POST", project.run_path(begun, "used"), json=body)
    assert used["reference"] == "nights@2"
    assert project.service().get(project.path("artifacts", "nights", "versions", "latest"))["number"] == 3


def test_who_used_exactly_this(project: Project, raw: httpx.Client) -> None:
    keep(project, "nights", {"2024/a.csv": b"1", "2024/b.csv": b"2"})
    keep(project, "copy-of-nights", {"2024/a.csv": b"1", "2024/b.csv": b"2"})
    mine, other = project.begin(), project.begin()
    for begun, name in ((mine, "nights"), (other, "copy-of-nights")):
        body = {"id": new_id(), "at": 1, "artifact": f"{name}@1", "role": "train"}
        project.service("contributor").call("POST", project.run_path(begun, "used"), json=body)
    digest = raw.get(project.path("artifacts", "nights", "versions", "1")).json()
    assert digest["equal"] == ["copy-of-nights@1"]
    found = raw.get(project.path("uses"), params={"digest": digest["digest"][:10]}).json()
    assert found["exact"] is True
    assert {(use["version"], use["run"]["run"], use["run"]["role"]) for use in found["uses"]} == {
        ("nights@1", mine["reference"], "train"),
        ("copy-of-nights@1", other["reference"], "train"),
    }
    file = raw.get(project.path("uses"), params={"digest": f"sha256:{sha(b'1')}"}).json()
    assert (file["exact"], len(file["uses"])) == (False, 2)
    assert raw.get(project.path("uses"), params={"digest": "f" * 20}).status_code == 404
    assert raw.get(project.path("uses"), params={"digest": "xyz"}).json()["field"] == "digest"


def test_knowing_a_digest_proves_nothing(project: Project, instance: Any, people: dict[str, str]) -> None:
    """Bytes of another project count as missing, and what holds them there stays unknown."""
    keep(project, "secret", {"a.csv": b"only there"})
    admin = instance.service()
    admin.call("POST", "/projects", json={"name": f"{project.name}-b"})
    admin.call("PUT", f"/projects/{project.name}-b/members/a-stranger", json={"role": "contributor"})
    stranger = instance.service(people["stranger"])
    there = f"/projects/{project.name}-b"
    assert stranger.call("POST", f"{there}/blobs/missing", json={"sha256": [sha(b"only there")]})["missing"]
    body = {"id": new_id(), "at": 1, "files": [{"path": "a", "size": 10, "sha256": sha(b"only there")}]}
    with pytest.raises(errors.InvalidInput, match="have not arrived"):
        stranger.call("POST", f"{there}/artifacts/mine/versions", json=body)
    with pytest.raises(errors.NotFound):
        stranger.get(f"{there}/uses", digest=sha(b"only there"))


def test_a_folder_is_listed_by_folders(project: Project, raw: httpx.Client) -> None:
    keep(project, "nights", {"2024/a.csv": b"1", "2024/deep/b.csv": b"22", "readme.md": b"#"})
    path = project.path("artifacts", "nights", "versions", "1", "listing")
    top = raw.get(path).json()
    assert [(found["name"], found["files"], found["size_bytes"]) for found in top["folders"]] == [("2024", 2, 3)]
    assert [entry["path"] for entry in top["files"]] == ["readme.md"]
    inside = raw.get(path, params={"folder": "2024", "limit": 1}).json()
    assert ([found["name"] for found in inside["folders"]], inside["more_files"]) == (["deep"], 0)
    assert [entry["path"] for entry in raw.get(path, params={"find": "B.CSV"}).json()["files"]] == ["2024/deep/b.csv"]


def test_a_full_disk_is_said_and_nothing_is_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from kinetrum.storage.data.blobs import BlobStore

    store = BlobStore(tmp_path / "store")

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(errors.Unavailable, match=r"cannot write \(No space left"), store.receive(sha(b"x")) as incoming:
        incoming.write(b"x")
        incoming.finish()
    with pytest.raises(errors.Unavailable):
        store.put_all([(sha(b"x"), b"x")])
    assert not store.has(sha(b"x"))
    assert list(store.incoming.iterdir()) == []


def test_uploads_that_nobody_finishes_are_swept(tmp_path: Path) -> None:
    import time

    from kinetrum.storage.data.blobs import BlobStore

    store = BlobStore(tmp_path / "store")
    with store.go_on("1", sha(b"whole"), 0) as incoming:
        incoming.write(b"wh")
    assert store.partial_size("1", sha(b"whole")) == 2
    with store.go_on("1", sha(b"whole"), 2) as first, pytest.raises(errors.Conflict, match="somebody else"):
        store.go_on("1", sha(b"whole"), 2).__enter__()
    assert first.size == 2
    assert store.sweep(3_600, time.time()) == 0
    assert store.sweep(3_600, time.time() + 7_200) == 1
    assert store.partial_size("1", sha(b"whole")) == 0
