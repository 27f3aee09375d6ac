"""Bytes by their SHA-256 on a local disk.

Guarantee: a blob's file appears under its digest only whole, verified and flushed to disk (temporary file,
fsync, rename, fsync of the folder); a crash leaves at most a temporary file, which is swept later. An upload that
broke off is kept as far as it came, and is taken up there. What is let go is removed only while nobody is putting
bytes in place (`putting` and `removing` exclude each other, also between processes).
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import secrets
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from io import BufferedReader
from pathlib import Path

from kinetrum.core.base.errors import Conflict, Damaged, NotFound, TooLarge, Unavailable

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

    def thumbnail_path(self, sha256: str) -> Path:
        """Return where the small picture of an image stands, or would stand; it goes when the image goes."""
        return self.folder / "thumbnails" / sha256[:2] / f"{sha256}.webp"

    def has(self, sha256: str) -> bool:
        """Tell whether the blob is there."""
        return self.path_of(sha256).is_file()

    def receive(self, sha256: str | None) -> Incoming:
        """Begin to take in a blob that is to have this digest; None takes what comes."""
        return Incoming(self, sha256)

    def partial_path(self, owner: str, sha256: str) -> Path:
        """Return where an upload of an owner (a project) that can be taken up again stands."""
        return self.incoming / f"part-{owner}-{sha256}"

    def partial_size(self, owner: str, sha256: str) -> int:
        """Return how many bytes of an upload have arrived."""
        try:
            return self.partial_path(owner, sha256).stat().st_size
        except FileNotFoundError:
            return 0

    def go_on(self, owner: str, sha256: str, offset: int) -> Incoming:
        """Take up an upload behind what has arrived. Raises Conflict where that is not `offset`."""
        return Incoming(self, sha256, owner, offset)

    def put_all(self, contents: Sequence[tuple[str, bytes]]) -> dict[str, int]:
        """Keep many small blobs at once, flushed together; returns their sizes. Raises Damaged, keeping none."""
        for sha256, content in contents:
            if hashlib.sha256(content).hexdigest() != sha256:
                raise Damaged(f"What arrived as sha256:{sha256[:12]}… has other bytes; nothing was kept. Send again.")
        written: list[tuple[Path, str]] = []
        try:
            with _room():
                fresh = dict(contents)
                written += [(self.incoming / f"{sha256[:16]}-{secrets.token_hex(8)}", sha256) for sha256 in fresh]
                for (path, _), content in zip(written, fresh.values(), strict=True):
                    _write_flushed(path, content)
                for path, sha256 in written:
                    self.path_of(sha256).parent.mkdir(exist_ok=True)
                    os.replace(path, self.path_of(sha256))
            self.flush_folders({self.path_of(sha256).parent for _, sha256 in written})
        finally:
            for path, _ in written:
                path.unlink(missing_ok=True)
        return {sha256: len(content) for sha256, content in contents}

    def flush_folders(self, folders: set[Path]) -> None:
        """Flush the entries of folders to disk."""
        for folder in (*folders, self.folder):
            handle = os.open(folder, os.O_RDONLY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)

    def pieces(self, sha256: str) -> Iterator[bytes]:
        """Yield the blob in pieces, the last one only after the whole was verified.

        Raises NotFound where it is missing and Damaged, before the last piece, where its bytes changed.
        """
        digest, piece_before = hashlib.sha256(), b""
        with self._open(sha256) as file:
            while piece := file.read(PIECE):
                digest.update(piece)
                if piece_before:
                    yield piece_before
                piece_before = piece
        if digest.hexdigest() != sha256:
            raise Damaged(f"The stored bytes of sha256:{sha256[:12]}… changed on disk; they are not served.")
        if piece_before:
            yield piece_before

    def part(self, sha256: str, first: int, last: int) -> Iterator[bytes]:
        """Yield the bytes from `first` to `last`, both counted; the whole blob is verified before the first.

        Raises NotFound where it is missing and Damaged where its bytes changed.
        """
        file = self._open(sha256)
        try:
            if hashlib.file_digest(file, "sha256").hexdigest() != sha256:
                raise Damaged(f"The stored bytes of sha256:{sha256[:12]}… changed on disk; they are not served.")
        except BaseException:
            file.close()
            raise
        return _between(file, first, last)

    def is_intact(self, sha256: str) -> bool:
        """Tell whether the blob's bytes still have their digest. Raises NotFound where it is missing."""
        with self._open(sha256) as file:
            return hashlib.file_digest(file, "sha256").hexdigest() == sha256

    def _open(self, sha256: str) -> BufferedReader:
        try:
            return self.path_of(sha256).open("rb")
        except FileNotFoundError:
            raise NotFound(f"The bytes of sha256:{sha256[:12]}… are not in the store.") from None

    def read(self, sha256: str, limit: int) -> bytes:
        """Return a small blob whole; raises TooLarge over `limit` bytes."""
        size = self.path_of(sha256).stat().st_size if self.has(sha256) else 0
        if size > limit:
            raise TooLarge(f"The file has {size} bytes; up to {limit} are read at once.")
        return b"".join(self.pieces(sha256))

    def all_digests(self) -> Iterator[str]:
        """Yield the digest of every file in the store."""
        for folder in sorted(self.folder.glob("??")):
            for path in sorted(folder.iterdir()):
                if len(path.name) == 64:
                    yield path.name

    @contextmanager
    def putting(self) -> Iterator[None]:
        """Hold while a file is put in place and noted in the database."""
        with self._guarded(fcntl.LOCK_SH):
            yield

    def remove(self, digests: Sequence[str], known_among: Callable[[Sequence[str]], set[str]]) -> int:
        """Remove files that nothing needs; asked once more while no upload is under way. Returns bytes freed."""
        freed = 0
        for start in range(0, len(digests), 200):
            part = digests[start : start + 200]
            with self._guarded(fcntl.LOCK_EX):
                known = known_among(part)
                for path in (self.path_of(sha256) for sha256 in part if sha256 not in known):
                    if path.is_file():
                        freed += path.stat().st_size
                        path.unlink()
                    self.thumbnail_path(path.name).unlink(missing_ok=True)
        return freed

    @contextmanager
    def _guarded(self, kind: int) -> Iterator[None]:
        handle = os.open(self.folder / "guard", os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(handle, kind)
            yield
        finally:
            os.close(handle)

    def sweep(self, older_than_s: float, now_s: float) -> int:
        """Remove uploads that nobody goes on with; returns how many."""
        count = 0
        for path in self.incoming.iterdir():
            try:
                old = now_s - path.stat().st_mtime > older_than_s
            except FileNotFoundError:
                continue
            if old:
                path.unlink(missing_ok=True)
                count += 1
        return count


def _write_flushed(path: Path, content: bytes) -> None:
    with path.open("xb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())


def _between(file: BufferedReader, first: int, last: int) -> Iterator[bytes]:
    with file:
        file.seek(first)
        left = last - first + 1
        while left > 0 and (piece := file.read(min(PIECE, left))):
            left -= len(piece)
            yield piece


class Arrival:
    """A file that is needed only while it is looked into; removed when the context is left."""

    resumable = False

    def __init__(self, path: Path) -> None:
        self.path, self.size = path, 0

    def __enter__(self) -> Arrival:
        with _room():
            self._file = self.path.open("xb")
        return self

    def write(self, piece: bytes) -> None:
        """Take the next bytes."""
        with _room():
            self._file.write(piece)
        self.size += len(piece)

    def flush(self) -> None:
        """Make everything that was taken readable."""
        with _room():
            self._file.flush()

    def __exit__(self, *error: object) -> None:
        with suppress(OSError):
            self._file.close()
        self.path.unlink(missing_ok=True)


class Incoming:
    """One blob on its way in, as a context manager.

    Leaving without `finish` removes what arrived; with an owner it stays, to be gone on with.
    """

    def __init__(self, store: BlobStore, sha256: str | None, owner: str | None = None, offset: int = 0) -> None:
        self.store, self.sha256, self.resumable = store, sha256, owner is not None
        if owner is not None and sha256 is not None:
            self.path = store.partial_path(owner, sha256)
        else:
            self.path = store.incoming / f"{(sha256 or 'unknown')[:16]}-{secrets.token_hex(8)}"
        self.offset = offset
        # Of an upload that is gone on with, the whole is read at its end: else each of many parts would read it anew.
        self.digest, self.size = None if offset else hashlib.sha256(), offset

    def __enter__(self) -> Incoming:
        with _room():
            self.file = self.path.open("a+b" if self.resumable else "xb")
        if self.resumable:
            try:
                self._take_up()
            except BaseException:
                self.file.close()
                raise
        return self

    def _take_up(self) -> None:
        try:
            fcntl.flock(self.file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise Conflict("These bytes are being sent by somebody else just now; ask for the offset again.") from None
        there = self.file.seek(0, os.SEEK_END)
        # Finished or swept by another meanwhile: the name does not lead to this file any more.
        gone = not self.path.exists() or self.path.stat().st_ino != os.fstat(self.file.fileno()).st_ino
        if gone or there != self.offset:
            raise Conflict(
                f"{0 if gone else there} bytes have arrived, not {self.offset}; ask for the offset and go on there.",
                field="offset",
            )

    def write(self, piece: bytes) -> None:
        """Take the next bytes."""
        with _room():
            self.file.write(piece)
        if self.digest:
            self.digest.update(piece)
        self.size += len(piece)

    def _arrived(self) -> str:
        if self.digest:
            return self.digest.hexdigest()
        with _room():
            self.file.flush()
            with self.path.open("rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest()

    def finish(self) -> int:
        """Verify, flush and put in place; returns the size. Raises Damaged where the digest differs."""
        arrived = self._arrived()
        if self.sha256 is not None and arrived != self.sha256:
            self.resumable = False
            raise Damaged(
                f"The {self.size} bytes that arrived have SHA-256 {arrived}, not {self.sha256}; "
                "nothing was kept. Send them again."
            )
        self.sha256 = arrived
        with _room():
            self.file.flush()
            os.fsync(self.file.fileno())
            target = self.store.path_of(arrived)
            target.parent.mkdir(exist_ok=True)
            os.replace(self.path, target)
        self.store.flush_folders({target.parent})
        self.resumable = False
        return self.size

    def __exit__(self, *error: object) -> None:
        # Where the rest did not fit on the disk, what did is a beginning all the same.
        with suppress(OSError):
            self.file.close()
        if not self.resumable:
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
