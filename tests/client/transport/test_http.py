"""What the client makes of answers, of absences, and of a service that means harm."""

from __future__ import annotations

import http.server
import json
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.client.data.copies import find_files
from kinetrum.client.data.downloads import download_files
from kinetrum.client.sender.fingerprints import fingerprint
from kinetrum.client.transport.http import Service, error_of, path_of
from kinetrum.core.base import errors


def answer(status: int, body: Any, url: str = "http://service/x") -> httpx.Response:
    content = body if isinstance(body, bytes) else json.dumps(body).encode()
    return httpx.Response(status, content=content, request=httpx.Request("GET", url))


@pytest.mark.parametrize(
    ("status", "kind", "error"),
    [
        (409, "unexpected-occupant", errors.UnexpectedOccupant),
        (409, "conflict", errors.Conflict),
        (422, "invalid-input", errors.InvalidInput),
        (400, "broken-json", errors.InvalidInput),
        (404, "not-found", errors.NotFound),
        (401, "not-signed-in", errors.NotSignedIn),
        (403, "not-allowed", errors.NotAllowed),
        (413, "too-large", errors.TooLarge),
        (422, "damaged", errors.Damaged),
        (503, "unavailable", errors.Unavailable),
        (500, "internal", errors.Unavailable),
        (418, "something-new", errors.KinetrumError),
    ],
)
def test_problems_become_errors(status: int, kind: str, error: type[errors.KinetrumError]) -> None:
    body = {
        "type": f"urn:kinetrum:problem:{kind}",
        "title": "t",
        "status": status,
        "detail": "what happened",
        "field": "depth",
    }
    found = error_of(answer(status, body))
    assert type(found) is error
    assert str(found) == "what happened"
    if status < 500:
        assert found.field == "depth"


@pytest.mark.parametrize("body", [b"<html>", b"", {"detail": "x"}, [1], {"type": 5}])
def test_what_is_no_problem_document_is_no_service(body: Any) -> None:
    found = error_of(answer(502, body))
    assert isinstance(found, errors.Unavailable)
    assert "is a Kinetrum service there?" in str(found)


def test_paths_are_made_safe() -> None:
    assert path_of("projects", "a b", "x/y", "..", "?#%") == "/projects/a%20b/x%2Fy/../%3F%23%25"


def test_a_service_that_is_not_there() -> None:
    service = Service("http://127.0.0.1:1", None)
    with pytest.raises(errors.Unavailable, match="was not reached"):
        service.get("/projects")
    with pytest.raises(errors.Unavailable, match="was not reached"), service.stream("/projects"):
        pass
    service.close()


class Handler(http.server.BaseHTTPRequestHandler):
    """Answers every download with other bytes than the manifest promised."""

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "5")
        self.end_headers()
        self.wfile.write(b"other")

    def log_message(self, *arguments: object) -> None:
        """Say nothing."""


@pytest.fixture
def liar() -> Iterator[Service]:
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        service = Service(f"http://127.0.0.1:{server.server_port}", None)
        yield service
        service.close()
        server.shutdown()
        thread.join()


def entry(path: str) -> dict[str, Any]:
    return {"path": path, "size": 5, "sha256": "0" * 64}


def test_bytes_that_do_not_match_are_not_kept(liar: Service, tmp_path: Path) -> None:
    with pytest.raises(errors.Damaged, match="nothing was kept"):
        download_files(liar, "/projects/p/artifacts/a/versions/1", [entry("net.onnx")], tmp_path)
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("path", ["../outside", "/etc/outside", "a/../../outside", "a\\b", ""])
def test_a_manifest_cannot_lead_out_of_the_folder(liar: Service, tmp_path: Path, path: str) -> None:
    with pytest.raises(errors.InvalidInput):
        download_files(liar, "/projects/p/artifacts/a/versions/1", [entry(path)], tmp_path / "in")
    assert not (tmp_path / "outside").exists()


def test_a_link_cannot_lead_out_of_the_folder(liar: Service, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "out").mkdir()
    (tmp_path / "in" / "link").symlink_to(tmp_path / "out")
    with pytest.raises(errors.Conflict, match="lies outside"):
        download_files(liar, "/projects/p/artifacts/a/versions/1", [entry("link/net.onnx")], tmp_path / "in")
    assert list((tmp_path / "out").iterdir()) == []


def test_files_of_a_folder(tmp_path: Path) -> None:
    (tmp_path / "a" / "b").mkdir(parents=True)
    (tmp_path / "a" / "b" / "two.csv").write_text("2")
    (tmp_path / "a" / "one.csv").write_text("1")
    (tmp_path / "a" / "linked.csv").symlink_to(tmp_path / "a" / "one.csv")
    (tmp_path / "a" / "broken").symlink_to(tmp_path / "nowhere")
    with pytest.warns(UserWarning, match="1 entry was left out .* 'broken'"):
        assert [found.path for found in find_files(tmp_path / "a")] == ["b/two.csv", "linked.csv", "one.csv"]
    assert [found.path for found in find_files(tmp_path / "a" / "one.csv")] == ["one.csv"]
    known = fingerprint(tmp_path / "a" / "one.csv")
    assert (known.size, known.sha256) == (1, "6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b")


def test_a_file_that_is_being_written_is_no_output(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from kinetrum.client.data import copies

    source, spool = tmp_path / "net.onnx", tmp_path / "spool"
    source.write_bytes(b"half")
    spool.mkdir()
    plain = copies._copy_once

    def written_meanwhile(*arguments: Any) -> Any:
        copied = plain(*arguments)
        with source.open("ab") as file:
            file.write(b" and more")
        return copied

    monkeypatch.setattr(copies, "_copy_once", written_meanwhile)
    with pytest.raises(errors.InvalidInput, match="is being written to"):
        copies.copy_all(find_files(source), spool)
    assert list(spool.iterdir()) == []
