"""The stand-in for an object store: what it answers, also to a client that is not ours, and what it keeps to itself."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import httpx
import obstore
import pytest
from obstore.store import S3Store

from kinetrum.demo.stand_ins import object_store

SPACE = "{http://s3.amazonaws.com/doc/2006-03-01/}"


@pytest.fixture
def address(tmp_path: Path) -> Iterator[str]:
    root = tmp_path / "store"
    for name, text in {"readings/2024/a.csv": "1,2\n", "readings/2025/b & ü.csv": "3,4\n", "other/c.csv": "5"}.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
    (tmp_path / "secret.txt").write_text("not in any bucket")
    server = object_store.serve(root, 0)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()
    thread.join()


def keys(answer: httpx.Response) -> list[str | None]:
    found = ElementTree.fromstring(answer.content).findall(f"{SPACE}Contents")
    return [item.findtext(f"{SPACE}Key") for item in found]


def test_a_bucket_is_listed_by_prefix(address: str) -> None:
    assert keys(httpx.get(f"{address}/readings?list-type=2")) == ["2024/a.csv", "2025/b & ü.csv"]
    assert keys(httpx.get(f"{address}/readings", params={"prefix": "2025/"})) == ["2025/b & ü.csv"]
    assert keys(httpx.get(f"{address}/readings", params={"prefix": "nothing"})) == []


def test_objects_come_whole_in_parts_and_by_head(address: str) -> None:
    path = f"{address}/readings/2024/a.csv"
    whole = httpx.get(path)
    assert (whole.status_code, whole.text) == (200, "1,2\n")
    part = httpx.get(path, headers={"Range": "bytes=1-2"})
    assert (part.status_code, part.text, part.headers["Content-Range"]) == (206, ",2", "bytes 1-2/4")
    assert httpx.get(path, headers={"Range": "bytes=2-"}).text == "2\n"
    head = httpx.head(path)
    assert (head.status_code, head.content, head.headers["Content-Length"]) == (200, b"", "4")
    assert head.headers["ETag"] == whole.headers["ETag"]


@pytest.mark.parametrize(
    ("path", "code"),
    [
        ("nowhere/a.csv", "NoSuchBucket"),
        ("readings/none.csv", "NoSuchKey"),
        ("readings/%2e%2e/%2e%2e/secret.txt", "NoSuchKey"),
        ("%2e%2e/secret.txt", "NoSuchBucket"),
        ("readings/2024", "NoSuchKey"),
    ],
)
def test_what_is_not_there_is_an_error_of_the_protocol(address: str, path: str, code: str) -> None:
    answer = httpx.get(f"{address}/{path}")
    assert answer.status_code == 404
    assert ElementTree.fromstring(answer.content).findtext("Code") == code
    assert "not in any bucket" not in answer.text


def test_a_client_of_the_protocol_understands_it(address: str) -> None:
    store = S3Store(
        "readings",
        endpoint=address,
        access_key_id="k",
        secret_access_key="s",
        region="orchard",
        client_options={"allow_http": True},
        virtual_hosted_style_request=False,
    )
    listed = [item["path"] for batch in obstore.list(store) for item in batch]
    assert listed == ["2024/a.csv", "2025/b & ü.csv"]
    assert bytes(obstore.get(store, "2025/b & ü.csv").bytes()) == b"3,4\n"
    assert bytes(obstore.get_range(store, "2024/a.csv", start=0, end=1)) == b"1"
    assert obstore.head(store, "2024/a.csv")["size"] == 4
    with pytest.raises(FileNotFoundError):
        obstore.get(store, "2024/none.csv")
