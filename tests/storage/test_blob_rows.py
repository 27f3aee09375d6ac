"""What the database knows of stored bytes: who holds them, what is let go, and what an earlier version left out."""

from __future__ import annotations

import hashlib
import json
import secrets
from pathlib import Path

import pytest
import zstandard

from kinetrum.actions.data import uploads
from kinetrum.core.base.manifests import FileEntry, digest_of
from kinetrum.storage.data import artifacts, blob_rows, disk_usage, manifests
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import execute, query
from tests.storage.conftest import Place

pytestmark = pytest.mark.usefixtures("db")


def version(place: Place, name: str, *contents: bytes, stored: bool = True) -> int:
    """Make a version of files named by their place in the list; returns its id."""
    files = tuple(
        FileEntry(f"{at}", len(content), hashlib.sha256(content).hexdigest(), 5_000_000 + at)
        for at, content in enumerate(contents)
    )
    if stored:
        blob_rows.note_blobs(place.project_id, {entry.sha256: entry.size for entry in files})
    assert artifacts.claim_name(place.project_id, name, "artifact")
    artifacts.add_artifact(place.project_id, name, "data", place.person_id)
    row = artifacts.artifact_named(place.project_id, name)
    assert row is not None
    digest = digest_of(files)
    manifests.save_manifest(digest, files)
    number = artifacts.last_number(row.artifact_id) + 1
    return artifacts.add_version(
        row.artifact_id,
        artifacts.NewVersionRow(
            number, digest, not stored, None, place.person_id, {}, {}, manifests.pack_places(files)
        ),
    )


# Bytes that no other test has: what another project holds is not let go.
ONE, TWO, BOTH, OLD, NEW = (word + secrets.token_bytes(5) for word in (b"one", b"two", b"both", b"old", b"new"))


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def test_bytes_are_let_go_with_the_last_version_that_holds_them(place: Place) -> None:
    first, second = version(place, "nights", ONE, BOTH), version(place, "nights", TWO, BOTH)
    version(place, "elsewhere", TWO, BOTH, stored=False)
    assert blob_rows.only_held_by(place.project_id, [first]) == (1, len(ONE))
    assert blob_rows.only_held_by(place.project_id, [first, second]) == (3, len(ONE) + len(TWO) + len(BOTH))
    disk_usage.mark_version_purged(first, place.person_id)
    digests = [sha(content) for content in (ONE, BOTH)]
    assert blob_rows.let_go(place.project_id, digests) == len(ONE)
    assert set(blob_rows.blobs_in_project(place.project_id, digests)) == {sha(BOTH)}
    assert sha(ONE) in blob_rows.released(10_000)
    # It comes again before its file was removed: nothing is to be removed any more.
    blob_rows.note_blobs(place.project_id, {sha(ONE): len(ONE)})
    assert sha(ONE) not in blob_rows.released(10_000)


def test_a_purge_that_was_cut_off_is_finished_by_the_next(place: Place, tmp_path: Path) -> None:
    store = BlobStore(tmp_path / "store")
    store.put_all([(sha(OLD), OLD), (sha(NEW), NEW)])
    disk_usage.mark_version_purged(version(place, "nights", OLD), place.person_id)
    version(place, "nights", NEW)
    blob_rows.let_go(place.project_id, [sha(OLD)])
    # Here the process died: the row is gone, the file is not.
    assert store.has(sha(OLD))
    assert uploads.remove_released(store) == len(OLD)
    assert (store.has(sha(OLD)), store.has(sha(NEW))) == (False, True)
    assert sha(OLD) not in blob_rows.released(10_000)


def test_what_no_version_came_for_is_let_go_in_time(place: Place) -> None:
    blob_rows.note_blobs(place.project_id, {sha(b"lonely"): 6})
    version(place, "nights", b"wanted")
    assert uploads.let_go_of_unused(place.project_id, 3_600) == 0
    assert [digest for _, digest in blob_rows.never_used(place.project_id, -5, 10)] == [sha(b"lonely")]
    assert uploads.let_go_of_unused(place.project_id, -5) == 6
    assert set(blob_rows.blobs_in_project(place.project_id, [sha(b"wanted")])) == {sha(b"wanted")}


def test_manifests_of_earlier_versions_are_indexed(place: Place) -> None:
    entry = FileEntry("a.csv", 4, sha(b"from before"))
    raw = bytes.fromhex(digest_of([entry]))
    doc = zstandard.ZstdCompressor().compress(json.dumps([["a.csv", 4, entry.sha256]]).encode())
    execute("INSERT INTO manifest (digest, file_count, size_bytes, doc) VALUES (%s, 1, 4, %s)", raw, doc)
    assert query("SELECT 1 FROM manifest_blob WHERE digest = %s", raw) == []
    while manifests.index_some():
        pass
    assert query("SELECT LOWER(HEX(sha256)) FROM manifest_blob WHERE digest = %s", raw) == [(entry.sha256,)]
    assert manifests.load_manifest(raw.hex()) == (entry,)


def test_places_of_files_belong_to_a_version(place: Place) -> None:
    found = version(place, "nights", b"one", b"two", stored=False)
    row = artifacts.version_by_id(found)
    assert [entry.modified for entry in manifests.files_of_version(found, row.digest)] == [5_000_000, 5_000_001]
    assert [entry.modified for entry in manifests.load_manifest(row.digest)] == [None, None]


def test_digests_are_found_by_their_beginning(place: Place) -> None:
    version(place, "nights", b"one", b"two")
    row = artifacts.artifacts_of(place.project_id)[0]
    assert blob_rows.known_among([sha(b"one"), sha(b"never")]) == {sha(b"one")}
    assert artifacts.digests_that_begin(place.project_id, sha(b"one")[:9]) == [sha(b"one")]
    assert artifacts.digests_that_begin(place.project_id, row.digest[:9]) == [row.digest]
    assert artifacts.digests_that_begin(place.project_id + 1, sha(b"one")[:9]) == []
