"""Manifests: the list of an artifact version's files, and the digest that identifies the content."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Sequence
from dataclasses import dataclass

from kinetrum.core.base.errors import InvalidInput

FILE_LIMIT = 100_000
PATH_LIMIT = 1_000
# What file systems take as a name: what is kept here can be fetched everywhere.
PART_LIMIT = 255
ADDRESS_LIMIT = 2_000
_SHA256 = re.compile(r"[0-9a-f]{64}\Z")


@dataclass(frozen=True)
class FileEntry:
    """One file: path with '/' relative to the artifact, size in bytes, SHA-256 in hex.

    `modified` is its last change in microseconds since 1970 and `address` where it stays, both where they are
    known; neither is part of the content that the digest identifies.
    """

    path: str
    size: int
    sha256: str
    modified: int | None = None
    address: str | None = None


def check_sha256(text: object) -> str:
    """Return `text` if it is a SHA-256 in lowercase hex."""
    if isinstance(text, str) and _SHA256.match(text):
        return text
    raise InvalidInput(f"{text!r} is not a SHA-256; 64 lowercase hex digits are needed.", field="sha256")


def check_path(path: object) -> str:
    """Return `path` if it stays inside the artifact: relative, no '..', no empty parts, no control characters."""
    if not isinstance(path, str) or not path or len(path.encode(errors="replace")) > PATH_LIMIT:
        raise InvalidInput(f"The path {str(path)[:60]!r} is empty or over {PATH_LIMIT} bytes.", field="path")
    if path.startswith("/") or "\\" in path or not path.isprintable():
        raise InvalidInput(
            f"The path {path[:200]!r} is absolute, or contains '\\', control characters or bytes that are not UTF-8.",
            field="path",
        )
    if any(part in {"", ".", ".."} for part in path.split("/")):
        raise InvalidInput(f"The path {path!r} does not stay inside its folder.", field="path")
    return path


def check_manifest(files: Sequence[FileEntry]) -> tuple[FileEntry, ...]:
    """Check and sort a manifest: 1 to 100,000 files, every path once, no path that is also a folder."""
    if not files:
        raise InvalidInput("It has no file; at least one is needed.", field="files")
    if len(files) > FILE_LIMIT:
        raise InvalidInput(f"There are {len(files)} files in it; at most {FILE_LIMIT} are taken.", field="files")
    paths = {check_path(entry.path) for entry in files}
    if len(paths) != len(files):
        raise InvalidInput("A path stands in it twice.", field="files")
    if any(len(part.encode()) > PART_LIMIT for path in paths for part in path.split("/")):
        raise InvalidInput(f"A file's or folder's name in it has over {PART_LIMIT} bytes.", field="files")
    for entry in files:
        check_sha256(entry.sha256)
        if entry.size < 0:
            raise InvalidInput(f"The size of {entry.path!r} is negative.", field="size")
        if entry.address is not None and len(entry.address) > ADDRESS_LIMIT:
            raise InvalidInput(f"The address of {entry.path!r} has over {ADDRESS_LIMIT} characters.", field="address")
        parent = entry.path.rpartition("/")[0]
        while parent:
            if parent in paths:
                raise InvalidInput(f"{parent!r} is both a file and a folder.", field="files")
            parent = parent.rpartition("/")[0]
    return tuple(sorted(files, key=lambda entry: entry.path))


def digest_of(files: Sequence[FileEntry]) -> str:
    """Return the SHA-256 over the sorted (path, size, SHA-256) alone: equal content, equal digest."""
    digest = hashlib.sha256()
    for entry in sorted(files, key=lambda entry: entry.path):
        line = json.dumps([entry.path, entry.size, entry.sha256], ensure_ascii=False, separators=(",", ":"))
        digest.update(line.encode() + b"\n")
    return digest.hexdigest()
