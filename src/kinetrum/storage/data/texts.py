"""Texts kept once per project under their digest: differences of code, lists of packages, scripts."""

from __future__ import annotations

import hashlib

import zstandard

from kinetrum.storage.tables.runs import KeptText


def keep_text(project_id: int, text: str) -> str:
    """Keep a text and return its SHA-256."""
    raw = text.encode()
    digest = hashlib.sha256(raw)
    KeptText.insert(
        project_id=project_id,
        sha256=digest.digest(),
        size_bytes=len(raw),
        content=zstandard.ZstdCompressor(level=3).compress(raw),
    ).on_conflict_ignore().execute()
    return digest.hexdigest()


def read_text(project_id: int, sha256: str) -> str | None:
    """Return a text of the project, None where it has none under that digest."""
    row = KeptText.get_or_none((KeptText.project_id == project_id) & (KeptText.sha256 == bytes.fromhex(sha256)))
    return zstandard.ZstdDecompressor().decompress(row.content).decode() if row else None
