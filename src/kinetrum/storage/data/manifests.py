"""Manifests by their digest, which files stand in them, and where the files of a version were."""

from __future__ import annotations

import json

import zstandard

from kinetrum.core.base.manifests import FileEntry
from kinetrum.storage.db.database import insert_rows, named_rows, one_row
from kinetrum.storage.tables.data import ArtifactVersion, Manifest, ManifestBlob


def save_manifest(digest: str, files: tuple[FileEntry, ...]) -> None:
    """Keep a manifest under its digest, unless it is there."""
    raw = bytes.fromhex(digest)
    doc = json.dumps([[entry.path, entry.size, entry.sha256] for entry in files], separators=(",", ":"))
    size = sum(entry.size for entry in files)
    manifest = Manifest.insert(digest=raw, file_count=len(files), size_bytes=size, doc=_pack(doc), indexed=True)
    manifest.on_conflict_ignore().execute()
    _index(raw, files)


def _index(digest: bytes, files: tuple[FileEntry, ...]) -> None:
    blobs = sorted({bytes.fromhex(entry.sha256) for entry in files})
    if ManifestBlob.select().where(ManifestBlob.digest == digest).count() < len(blobs):
        fields = [ManifestBlob.digest, ManifestBlob.sha256]
        insert_rows(ManifestBlob, fields, [(digest, blob) for blob in blobs], ignore=True, size=2_000)


def index_some(limit: int = 20) -> int:
    """Index manifests of earlier versions of this program, which left out files by reference; returns how many."""
    rows = named_rows(Manifest.select(Manifest.digest).where(Manifest.indexed == False).limit(limit))  # noqa: E712
    for row in rows:
        _index(row.digest, load_manifest(row.digest.hex()))
        Manifest.update(indexed=True).where(Manifest.digest == row.digest).execute()
    return len(rows)


def load_manifest(digest: str) -> tuple[FileEntry, ...]:
    """Return the files of a manifest, by path."""
    raw = one_row(Manifest.select(Manifest.doc).where(Manifest.digest == bytes.fromhex(digest))).doc
    return tuple(FileEntry(*entry) for entry in json.loads(_unpack(raw)))


def files_of_version(version_id: int, digest: str) -> tuple[FileEntry, ...]:
    """Return the files of a version, with their last change and their address where these are known."""
    files = load_manifest(digest)
    raw = one_row(ArtifactVersion.select(ArtifactVersion.places).where(ArtifactVersion.version_id == version_id)).places
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
