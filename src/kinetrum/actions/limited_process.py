"""The process that reads files of strangers, with bounded memory and time and no way to write.

`python -m kinetrum.actions.limited_process TASK DESCRIPTORS ARGUMENTS` reads the open files whose descriptors it
inherited, with arguments as JSON, and prints what it found; what the caller must be told of them as an error object.
"""

from __future__ import annotations

import json
import os
import resource
import sys
from collections.abc import Callable
from dataclasses import asdict
from typing import Any, BinaryIO

MEMORY_BYTES, CPU_S = 4 * 1024**3, 10


def _preview(files: list[BinaryIO], given: dict[str, Any]) -> bytes:
    from kinetrum.core.preview.apart import read_apart

    size = files[0].seek(0, 2)
    files[0].seek(0)
    return json.dumps(asdict(read_apart(given["form"], files[0], size))).encode()


def _rows(files: list[BinaryIO], given: dict[str, Any]) -> bytes:
    from kinetrum.core.rows.asked import Asked
    from kinetrum.core.rows.joining import join_tables
    from kinetrum.core.rows.reading import read_rows
    from kinetrum.core.rows.selecting import select_rows

    tables = [read_rows(file, path) for file, path in zip(files, given["paths"], strict=True)]
    asked = Asked(**given["asked"])
    found = (
        select_rows(tables[0], asked) if len(tables) == 1
        else join_tables(tables[0], tables[1], given["key"], given["outcomes"], asked)
    )  # fmt: skip
    return json.dumps(asdict(found)).encode()


def _thumbnails(files: list[BinaryIO], given: dict[str, Any]) -> bytes:
    """Answer with one line of JSON, which has the length of each picture or null, and the pictures behind it."""
    from kinetrum.core.media.thumbnails import make_thumbnail

    made = [make_thumbnail(file, given["side"]) for file in files]
    sizes = json.dumps([None if picture is None else len(picture) for picture in made])
    return sizes.encode() + b"\n" + b"".join(picture or b"" for picture in made)


TASKS: dict[str, Callable[[list[BinaryIO], dict[str, Any]], bytes]] = {
    "preview": _preview, "rows": _rows, "thumbnails": _thumbnails,
}  # fmt: skip


def main() -> None:
    """Take the limits before anything that reads is even loaded."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from kinetrum.core.errors import KinetrumError

    task, descriptors, given = sys.argv[1:4]
    files: list[BinaryIO] = [os.fdopen(int(number), "rb") for number in descriptors.split(",")]
    try:
        answer = TASKS[task](files, json.loads(given))
    except KinetrumError as error:
        said = {"error": type(error).__name__, "message": str(error), "field": getattr(error, "field", None)}
        answer = json.dumps(said).encode()
    sys.stdout.buffer.write(answer)


if __name__ == "__main__":
    main()
