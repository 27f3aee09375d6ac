"""Files elsewhere: at an HTTP address or in an object store (S3 protocol), fingerprinted where they are.

`python -m kinetrum.client.sender.remote_files FOLDER ID` reads the address from its standard input, where nobody sees
it, and the files in a process of its own, which has the environment (the object store's keys) of whoever recorded them,
and leaves what it found in FOLDER.
"""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit, urlunsplit

from kinetrum import locks
from kinetrum.client.sender.fingerprints import Fingerprints
from kinetrum.client.transport.progress import Tick
from kinetrum.core.base.errors import InvalidInput, KinetrumError, NotFound, Unavailable
from kinetrum.core.base.manifests import FILE_LIMIT, FileEntry, check_path
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    import httpx
    from obstore.store import ClientConfig, RetryConfig, S3Store

_SCHEMES = ("http://", "https://", "s3://")
_TIMEOUT_S = 60.0


@dataclass(frozen=True)
class RemoteFile:
    """A file elsewhere; `tag` changes with its content where the server gives one."""

    address: str
    path: str
    size: int | None
    modified: int | None
    tag: str


def is_remote(what: object) -> bool:
    """Tell whether this names files elsewhere."""
    return isinstance(what, str) and what.lower().startswith(_SCHEMES)


def shown_address(address: str) -> str:
    """Return an address without what may be secret: name and password, and for HTTP what follows a question mark."""
    parts = urlsplit(address)
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, host, parts.path, "", ""))


def list_remote(address: str, stays: bool = False) -> list[RemoteFile]:
    """List the file at an HTTP address, or the objects at or below an S3 address.

    With `stays` no other server is asked than the one named, wherever that one leads. Raises NotFound where nothing is
    there, Unavailable where the server does not answer.
    """
    if address.lower().startswith("s3://"):
        return _list_s3(address)
    import httpx

    try:
        with _client(stays) as client:
            response = client.head(address)
    except httpx.HTTPError as error:
        raise Unavailable(f"{shown_address(address)} was not reached ({error}).") from error
    if response.status_code >= 400 and response.status_code not in {403, 405, 501}:
        raise NotFound(f"{shown_address(address)} answered {response.status_code}.", field="path")
    name = unquote(urlsplit(address).path.rpartition("/")[2]) or "index"
    known = response.headers if response.status_code < 400 else {}
    size = known.get("content-length")
    return [
        RemoteFile(
            shown_address(address),
            check_path(name),
            int(size) if size and size.isdigit() else None,
            _moment(known.get("last-modified")),
            known.get("etag", ""),
        )
    ]


def _client(stays: bool) -> httpx.Client:
    """Return a client that follows where servers lead, with `stays` only on the same server."""
    import httpx

    def stay(response: httpx.Response) -> None:
        asked = response.request.url
        to = asked.join(response.headers["Location"]) if response.has_redirect_location else asked
        if (to.scheme, to.host, to.port) != (asked.scheme, asked.host, asked.port):
            raise Unavailable(f"{shown_address(str(asked))} leads to {to.host}, which was not asked for.")

    hooks = {"response": [stay]} if stays else {}
    return httpx.Client(follow_redirects=True, timeout=_TIMEOUT_S, event_hooks=hooks)


def _moment(text: str | None) -> int | None:
    try:
        return int(parsedate_to_datetime(text or "").timestamp() * 1_000_000)
    except ValueError:
        return None


def _store(address: str) -> tuple[S3Store, str]:
    try:
        import obstore.store
    except ImportError:
        raise InvalidInput("Object stores need the package obstore: pip install 'kinetrum[s3]'.") from None
    parts = urlsplit(address)
    endpoint = os.environ.get("AWS_ENDPOINT_URL_S3") or os.environ.get("AWS_ENDPOINT_URL") or ""
    options: ClientConfig = {"connect_timeout": "5 seconds", "timeout": f"{_TIMEOUT_S:.0f} seconds"}
    more: JsonObject = {}
    if endpoint:
        more["endpoint"] = endpoint
        options["allow_http"] = endpoint.startswith("http://")
    # Without keys it is asked as anybody may, not by looking for a cloud's keys on the network.
    if not os.environ.get("AWS_ACCESS_KEY_ID"):
        more["skip_signature"] = True
    retry: RetryConfig = {"max_retries": 2, "retry_timeout": timedelta(seconds=30)}
    store = obstore.store.S3Store(parts.netloc, client_options=options, retry_config=retry, **more)
    return store, parts.path.strip("/")


def _list_s3(address: str) -> list[RemoteFile]:
    import obstore
    import obstore.exceptions

    store, prefix = _store(address)
    entries = []
    try:
        for batch in obstore.list(store, prefix or None):
            entries += [item for item in batch if item["size"] or not item["path"].endswith("/")]
            if len(entries) > FILE_LIMIT:
                raise InvalidInput(f"{address} holds over {FILE_LIMIT} objects; record parts of it.", field="path")
        if not entries and prefix:
            entries = [obstore.head(store, prefix)]
    except FileNotFoundError:
        entries = []
    except obstore.exceptions.BaseError as error:
        raise Unavailable(f"{address} was not reached ({_short(error)}).") from None
    if not entries:
        raise NotFound(f"There is no object at or below {address}.", field="path")
    bucket = urlsplit(address).netloc
    below = f"{prefix}/" if prefix else ""
    return [
        RemoteFile(
            f"s3://{bucket}/{item['path']}",
            check_path(str(item["path"]).removeprefix(below) if item["path"] != prefix else _last(item["path"])),
            item["size"],
            int(item["last_modified"].timestamp() * 1_000_000),
            f"{item['e_tag'] or ''} {item['version'] or ''}".strip(),
        )
        for item in entries
    ]


def _short(error: Exception) -> str:
    """Return what a library says in its first words; the rest is for its makers."""
    return str(error).split("\n")[0].split(" in ")[0][:200]


def _last(path: str) -> str:
    return path.rpartition("/")[2]


def read_remote(address: str, file: RemoteFile, stays: bool = False) -> Iterator[bytes]:
    """Yield the bytes of a file elsewhere; `address` is the one with what it takes to be let in."""
    if file.address.startswith("s3://"):
        import obstore
        import obstore.exceptions

        store, _ = _store(file.address)
        try:
            yield from (bytes(piece) for piece in obstore.get(store, urlsplit(file.address).path.strip("/")).stream())
        except (obstore.exceptions.BaseError, FileNotFoundError) as error:
            raise NotFound(f"{file.address} cannot be read ({_short(error)}).", field="path") from None
        return
    import httpx

    try:
        with _client(stays) as client, client.stream("GET", address) as response:
            if response.status_code >= 400:
                raise NotFound(f"{file.address} answered {response.status_code}.", field="path")
            yield from response.iter_bytes(1024 * 1024)
    except httpx.HTTPError as error:
        raise Unavailable(f"{file.address} broke off ({error}).") from error


def fingerprint_remote(
    address: str, files: list[RemoteFile], memory: Fingerprints, tick: Tick | None = None, stays: bool = False
) -> list[FileEntry]:
    """Return entries with the SHA-256 of every file; one with the tag, size and time seen before is not read again."""
    with ThreadPoolExecutor(max_workers=4) as pool:
        return list(pool.map(lambda file: _one(address, file, memory, tick, stays), files))


def _one(address: str, file: RemoteFile, memory: Fingerprints, tick: Tick | None, stays: bool) -> FileEntry:
    state = (file.size or 0, file.modified or 0, 0, 0)
    key = f"{file.address}#{file.tag}"
    # A weak tag, or none, does not promise that the bytes are the same.
    known = memory.known(key, state) if file.tag and not file.tag.startswith("W/") and file.size is not None else None
    if known is not None:
        if tick:
            tick(file.size or 0)
        return FileEntry(file.path, file.size or 0, known, file.modified, file.address)
    digest, size = hashlib.sha256(), 0
    for piece in read_remote(address, file, stays):
        digest.update(piece)
        size += len(piece)
        if tick:
            tick(len(piece))
    if file.size is not None and size != file.size:
        raise InvalidInput(f"{file.address} has {size} bytes, not {file.size} as listed: it changed meanwhile.")
    memory.remember([(key, state, digest.hexdigest())])
    return FileEntry(file.path, size, digest.hexdigest(), file.modified, file.address)


def start_reading(folder: Path, uid: str, address: str) -> None:
    """Have files elsewhere fingerprinted by a process of its own; `found_elsewhere` has the outcome."""
    (folder / f"remote-{uid}.lock").touch()
    process = subprocess.Popen(
        [sys.executable, "-m", "kinetrum.client.sender.remote_files", str(folder), uid],
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    if process.stdin is not None:
        process.stdin.write(address.encode())
        process.stdin.close()
    # Nobody waits for it; without this the interpreter would complain of that.
    process.returncode = 0


def found_elsewhere(folder: Path, uid: str, patience_s: float) -> list[FileEntry] | None:
    """Return what the process found, None while it is at work. Raises NotFound with the reason where it failed."""
    outcome = folder / f"remote-{uid}.json"
    lock = folder / f"remote-{uid}.lock"
    if outcome.exists():
        outcome_json = json.loads(outcome.read_text())
        if "error" in outcome_json:
            raise NotFound(outcome_json["error"])
        return [FileEntry(*entry) for entry in outcome_json["files"]]
    import time

    young = lock.exists() and time.time() - lock.stat().st_mtime < patience_s
    if young or locks.is_held(lock):
        return None
    raise NotFound("The process that read the files ended before it was done; record them again.")


def forget_elsewhere(folder: Path, uid: str) -> None:
    """Remove what the process left."""
    for ending in ("json", "lock"):
        (folder / f"remote-{uid}.{ending}").unlink(missing_ok=True)


def main(arguments: list[str]) -> None:
    """Run as a process."""
    folder, uid, address = Path(arguments[0]), arguments[1], sys.stdin.read()
    lock = locks.take(folder / f"remote-{uid}.lock")
    memory = Fingerprints()
    try:
        entries = fingerprint_remote(address, list_remote(address), memory)
        outcome_json: JsonObject = {"files": [list(vars(entry).values()) for entry in entries]}
    except (KinetrumError, OSError) as error:
        outcome_json = {"error": str(error)}
    finally:
        memory.close()
    part = folder / f"remote-{uid}.part"
    part.write_text(json.dumps(outcome_json))
    os.replace(part, folder / f"remote-{uid}.json")
    if lock is not None:
        os.close(lock)


if __name__ == "__main__":
    main(sys.argv[1:])
