"""Manifests by their digest, which files stand in them, and where the files of a version were."""

from __future__ import annotations

import json

import zstandard

from kinetrum.core.base.manifests import FileEntry
from kinetrum.storage.db.database import execute, insert_many, query


def save_manifest(digest: str, files: tuple[FileEntry, ...]) -> None:
    """Keep a manifest under its digest, unless it is there."""
    raw = bytes.fromhex(digest)
    doc = json.dumps([[entry.path, entry.size, entry.sha256] for entry in files], separators=(",", ":"))
    execute(
        "INSERT IGNORE INTO manifest (digest, file_count, size_bytes, doc, indexed) VALUES (%s, %s, %s, %s, TRUE)",
        raw,
        len(files),
        sum(entry.size for entry in files),
        _pack(doc),
    )
    _index(raw, files)


def _index(digest: bytes, files: tuple[FileEntry, ...]) -> None:
    blobs = sorted({bytes.fromhex(entry.sha256) for entry in files})
    ((there,),) = query("SELECT COUNT(*) FROM manifest_blob WHERE digest = %s", digest)
    if there < len(blobs):
        insert_many("INSERT IGNORE INTO manifest_blob (digest, sha256)", [(digest, blob) for blob in blobs], size=2_000)


def index_some(limit: int = 20) -> int:
    """Index manifests of earlier versions of this program, which left out files by reference; returns how many."""
    rows = query("SELECT LOWER(HEX(digest)) FROM manifest WHERE NOT indexed LIMIT %s", limit)
    for (digest,) in rows:
        _index(bytes.fromhex(digest), load_manifest(digest))
        execute("UPDATE manifest SET indexed = TRUE WHERE digest = %s", bytes.fromhex(digest))
    return len(rows)


def load_manifest(digest: str) -> tuple[FileEntry, ...]:
    """Return the files of a manifest, by path."""
    ((raw,),) = query("SELECT doc FROM manifest WHERE digest = %s", bytes.fromhex(digest))
    return tuple(FileEntry(*entry) for entry in json.loads(_unpack(raw)))


def files_of_version(version_id: int, digest: str) -> tuple[FileEntry, ...]:
    """Return the files of a version, with their last change and their address where these are known."""
    files = load_manifest(digest)
    ((raw,),) = query("SELECT places FROM artifact_version WHERE version_id = %s", version_id)
    if raw is None:
        return files
    known = json.loads(_unpack(raw))
    addresses = known["addresses"] or [None] * len(files)
    return tuple(
        FileEntry(entry.path, entry.size, entry.sha256, modified, address)
        for entry, modified, address in zip(files, known["modified"], addresses, strict=True)
    )


def pack_places(files: tuple[FileEntry, ...]) -> bytes | None:
    """Pack what is known of files beside their content, in the order of their paths; None where that is nothing."""
    if all(entry.modified is None and entry.address is None for entry in files):
        return None
    addresses = [entry.address for entry in files]
    known = {"modified": [entry.modified for entry in files], "addresses": addresses if any(addresses) else None}
    return _pack(json.dumps(known, separators=(",", ":")))


def _pack(text: str) -> bytes:
    return zstandard.ZstdCompressor(level=3).compress(text.encode())


def _unpack(raw: bytes) -> bytes:
    return zstandard.ZstdDecompressor().decompress(raw)
