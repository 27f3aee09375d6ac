"""Bytes by their SHA-256 on a local disk.

Guarantee: a blob's file appears under its digest only whole, verified and flushed to disk (temporary file,
fsync, rename, fsync of the folder); a crash leaves at most a temporary file, which the next start removes.
"""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterator
from pathlib import Path

from kinetrum.core.errors import Damaged, NotFound, TooLarge, Unavailable

PIECE = 1024 * 1024


class BlobStore:
    """A folder of blobs; safe for any number of threads and processes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.incoming = folder / "incoming"
        self.incoming.mkdir(parents=True, exist_ok=True)

    def path_of(self, sha256: str) -> Path:
        """Return where the blob of that digest stands or would stand."""
        return self.folder / sha256[:2] / sha256

    def has(self, sha256: str) -> bool:
        """Tell whether the blob is there."""
        return self.path_of(sha256).is_file()

    def receive(self, sha256: str) -> Incoming:
        """Begin to take in a blob that is to have this digest."""
        return Incoming(self, sha256)

    def pieces(self, sha256: str) -> Iterator[bytes]:
        """Yield the blob in pieces, the last one only after the whole was verified.

        Raises NotFound where it is missing and Damaged, before the last piece, where its bytes changed.
        """
        try:
            file = self.path_of(sha256).open("rb")
        except FileNotFoundError:
            raise NotFound(f"The bytes of sha256:{sha256[:12]}… are not in the store.") from None
        digest, held = hashlib.sha256(), b""
        with file:
            while piece := file.read(PIECE):
                digest.update(piece)
                if held:
                    yield held
                held = piece
        if digest.hexdigest() != sha256:
            raise Damaged(f"The stored bytes of sha256:{sha256[:12]}… changed on disk; they are not served.")
        if held:
            yield held

    def read(self, sha256: str, limit: int) -> bytes:
        """Return a small blob whole; raises TooLarge over `limit` bytes."""
        size = self.path_of(sha256).stat().st_size if self.has(sha256) else 0
        if size > limit:
            raise TooLarge(f"The file has {size} bytes; up to {limit} are read at once.")
        return b"".join(self.pieces(sha256))

    def sweep(self, older_than_s: float, now_s: float) -> None:
        """Remove temporary files that a crash left behind."""
        for path in self.incoming.iterdir():
            if now_s - path.stat().st_mtime > older_than_s:
                path.unlink(missing_ok=True)


class Incoming:
    """One blob on its way in. Use as a context manager: leaving without `finish` removes what arrived."""

    def __init__(self, store: BlobStore, sha256: str) -> None:
        self.store, self.sha256 = store, sha256
        self.path = store.incoming / f"{sha256[:16]}-{secrets.token_hex(8)}"
        self.digest, self.size = hashlib.sha256(), 0

    def __enter__(self) -> Incoming:
        with _room():
            self.file = self.path.open("xb")
        return self

    def write(self, piece: bytes) -> None:
        """Take the next bytes."""
        with _room():
            self.file.write(piece)
        self.digest.update(piece)
        self.size += len(piece)

    def finish(self) -> int:
        """Verify, flush and put in place; returns the size. Raises Damaged where the digest differs."""
        if self.digest.hexdigest() != self.sha256:
            raise Damaged(
                f"The {self.size} bytes that arrived have SHA-256 {self.digest.hexdigest()}, not {self.sha256}; "
                "nothing was kept. Send them again."
            )
        with _room():
            self.file.flush()
            os.fsync(self.file.fileno())
        target = self.store.path_of(self.sha256)
        target.parent.mkdir(exist_ok=True)
        os.replace(self.path, target)
        for folder in (target.parent, self.store.folder):
            handle = os.open(folder, os.O_RDONLY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)
        return self.size

    def __exit__(self, *error: object) -> None:
        self.file.close()
        self.path.unlink(missing_ok=True)


class _room:
    """Say a full disk plainly."""

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, OSError):
            raise Unavailable(
                f"The artifact store cannot write ({error.strerror}); nothing was kept. "
                "Free some room and send it again."
            ) from error
