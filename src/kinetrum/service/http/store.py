"""The store of bytes that this service works with."""

from __future__ import annotations

from fastapi import Request

from kinetrum.storage.data.blobs import BlobStore


def store_of(request: Request) -> BlobStore:
    """Return the store of bytes that this service works with."""
    store: BlobStore = request.app.state.blobs
    return store
