"""The process that takes an archive in, with bounded memory, so that reading it holds nobody else up.

`python -m kinetrum.actions.archives.import_process` reads from its input, as one line of JSON, who imports which
archive where, and prints what came of it, or the error as an object. The database's address is in KINETRUM_DATABASE.
It ends when whoever started it does; what was begun is completed by the next import of the same archive.
"""

from __future__ import annotations

import asyncio
import json
import os
import resource
import sys
import threading
from dataclasses import asdict
from pathlib import Path

from kinetrum.actions.archives.imported import Imported
from kinetrum.actions.context import Actor
from kinetrum.actions.sandbox.runner import raise_told
from kinetrum.core.access.scopes import Scope
from kinetrum.core.base.errors import KinetrumError, TooLarge
from kinetrum.core.base.values import JsonObject
from kinetrum.storage.data.blobs import BlobStore

_MEMORY_BYTES = 4 * 1024**3
_NICENESS = 10


async def run_import(actor: Actor, store: BlobStore, project: str, path: Path, same_people: bool) -> Imported:
    """Import an archive in a process of its own and return what came of it; raises what it raised."""
    asked = {
        "actor": asdict(actor)
        | {
            "scopes": None if actor.scopes is None else sorted(actor.scopes),
            "projects": None if actor.projects is None else sorted(actor.projects),
            # Bounds the tokens that one makes; an import makes none.
            "token_ends_at": None,
        },
        "store": str(store.folder),
        "project": project,
        "path": str(path),
        "same_people": same_people,
    }
    process = await asyncio.create_subprocess_exec(
        sys.executable,
        "-m",
        "kinetrum.actions.archives.import_process",
        stdin=asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.PIPE,
    )
    if process.stdin is None or process.stdout is None:
        raise RuntimeError("The process has no pipes.")
    try:
        # Its input stays open as long as this process lives.
        process.stdin.write(json.dumps(asked).encode() + b"\n")
        answer = await process.stdout.read()
        process.stdin.close()
        await process.wait()
    finally:
        if process.returncode is None:
            process.kill()
    if process.returncode != 0:
        raise RuntimeError(f"The process that imports ended with status {process.returncode}.")
    told = json.loads(answer)
    if "error" in told:
        raise_told(told)
    return Imported(**told)


def main() -> None:
    """Import what the input asks for."""
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY_BYTES, _MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(_NICENESS)
    asked = json.loads(sys.stdin.buffer.readline())
    threading.Thread(target=_end_with_parent, daemon=True).start()
    from kinetrum.actions.archives.unpacking import import_archive
    from kinetrum.storage.db.database import connect, parse_address

    connect(parse_address(os.environ["KINETRUM_DATABASE"]))
    try:
        done = import_archive(
            _actor(asked["actor"]),
            BlobStore(Path(asked["store"])),
            asked["project"],
            Path(asked["path"]),
            asked["same_people"],
        )
        _answer(asdict(done))
    except MemoryError:
        _answer_error(TooLarge("The archive takes too much memory to be read; export parts of it.", field="body"))
    except KinetrumError as error:
        _answer_error(error)


def _actor(told: JsonObject) -> Actor:
    scopes, ids = told.pop("scopes"), told.pop("projects")
    return Actor(
        **told,
        scopes=None if scopes is None else frozenset(Scope(word) for word in scopes),
        projects=None if ids is None else frozenset(ids),
    )


def _answer_error(error: KinetrumError) -> None:
    _answer({"error": type(error).__name__, "message": str(error), "field": error.field})


def _answer(answer: JsonObject) -> None:
    sys.stdout.write(json.dumps(answer))
    sys.stdout.flush()


def _end_with_parent() -> None:
    # Not by the buffered stream, whose lock would be held when this process ends.
    while os.read(sys.stdin.fileno(), 1):
        continue
    os._exit(1)


if __name__ == "__main__":
    main()
