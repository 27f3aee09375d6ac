"""Samples of what runs used of the machine: small packed blocks as they arrived."""

from __future__ import annotations

import json

import zstandard

from kinetrum.core.base.samples import Samples
from kinetrum.storage.tables.runs import ResourceBlock


def add_block(run_id: int, uid: bytes, samples: Samples) -> bool:
    """Keep a block of samples, which has a column `at` (microseconds since 1970); tells whether it is new."""
    payload = zstandard.ZstdCompressor(level=3).compress(json.dumps(samples, separators=(",", ":")).encode())
    block = ResourceBlock.insert(run_id=run_id, first_at=samples["at"][0], uid=uid, payload=payload)
    return bool(block.on_conflict_ignore().as_rowcount().execute())


def read_blocks(run_id: int) -> list[Samples]:
    """Return a run's blocks by time."""
    rows = ResourceBlock.select().where(ResourceBlock.run_id == run_id).order_by(ResourceBlock.first_at)
    return [json.loads(zstandard.ZstdDecompressor().decompress(row.payload)) for row in rows]


def any_of(run_id: int) -> bool:
    """Tell whether a run has samples."""
    return bool(ResourceBlock.select().where(ResourceBlock.run_id == run_id).exists())
