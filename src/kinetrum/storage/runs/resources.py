"""Samples of what runs used of the machine: small packed blocks as they arrived."""

from __future__ import annotations

import json

import zstandard

from kinetrum.core.base.samples import Samples
from kinetrum.storage.db.database import execute, query


def add_block(run_id: int, uid: bytes, samples: Samples) -> bool:
    """Keep a block of samples, which has a column `at` (microseconds since 1970); tells whether it is new."""
    payload = zstandard.ZstdCompressor(level=3).compress(json.dumps(samples, separators=(",", ":")).encode())
    return bool(
        execute(
            "INSERT IGNORE INTO resource_block (run_id, first_at, uid, payload) VALUES (%s, %s, %s, %s)",
            run_id, samples["at"][0], uid, payload,
        )
    )  # fmt: skip


def read_blocks(run_id: int) -> list[Samples]:
    """Return a run's blocks by time."""
    rows = query("SELECT payload FROM resource_block WHERE run_id = %s ORDER BY first_at", run_id)
    return [json.loads(zstandard.ZstdDecompressor().decompress(raw)) for (raw,) in rows]


def any_of(run_id: int) -> bool:
    """Tell whether a run has samples."""
    return bool(query("SELECT 1 FROM resource_block WHERE run_id = %s LIMIT 1", run_id))
