"""Texts kept once per project under their digest: differences of code, lists of packages, scripts."""

from __future__ import annotations

import hashlib

import zstandard

from kinetrum.storage.db.database import execute, query


def keep_text(project_id: int, text: str) -> str:
    """Keep a text and return its SHA-256."""
    raw = text.encode()
    digest = hashlib.sha256(raw)
    execute(
        "INSERT IGNORE INTO kept_text (project_id, sha256, size_bytes, content) VALUES (%s, %s, %s, %s)",
        project_id, digest.digest(), len(raw), zstandard.ZstdCompressor(level=3).compress(raw),
    )  # fmt: skip
    return digest.hexdigest()


def read_text(project_id: int, sha256: str) -> str | None:
    """Return a text of the project, None where it has none under that digest."""
    rows = query(
        "SELECT content FROM kept_text WHERE project_id = %s AND sha256 = %s", project_id, bytes.fromhex(sha256)
    )
    return zstandard.ZstdDecompressor().decompress(rows[0][0]).decode() if rows else None
