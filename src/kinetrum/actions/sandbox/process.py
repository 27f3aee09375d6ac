"""The process that reads files of strangers, with bounded memory and time and no way to write.

`python -m kinetrum.actions.sandbox.process TASK` loads what the task needs, then reads from its input, as JSON, which
files it is about and the arguments, and prints what it found; what the caller must be told of as an error object.
"""

from __future__ import annotations

import io
import json
import os
import resource
import sys
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import asdict
from pathlib import Path
from typing import Any, BinaryIO

MEMORY_BYTES, CPU_S = 4 * 1024**3, 10
_TAR_CPU_S = 3


def _preview(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    from kinetrum.core.preview.apart import read_apart

    size = files[0].seek(0, 2)
    files[0].seek(0)
    return json.dumps(asdict(read_apart(options["form"], files[0], size))).encode()


def _rows(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    from kinetrum.core.rows.joining import join_tables
    from kinetrum.core.rows.reading import read_rows
    from kinetrum.core.rows.row_query import RowQuery
    from kinetrum.core.rows.selecting import select_rows

    tables = [read_rows(file, path) for file, path in zip(files, options["paths"], strict=True)]
    query = RowQuery(**options["asked"])
    rows = (
        select_rows(tables[0], query)
        if len(tables) == 1
        else join_tables(tables[0], tables[1], options["key"], options["outcomes"], query)
    )
    return json.dumps(asdict(rows)).encode()


def _judged(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    from kinetrum.core.rows.judging import judge_predictions
    from kinetrum.core.rows.reading import read_rows

    left, right = (read_rows(file, path) for file, path in zip(files, options["paths"], strict=True))
    return json.dumps(
        [asdict(one) for one in judge_predictions(left, right, options["key"], options["confidence"])]
    ).encode()


def _signature(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    from kinetrum.core.registry.reading import read_signature

    try:
        signature = read_signature(options["form"], files[0])
    except ValueError:
        # A file that only bears the name of its form has no signature to tell.
        signature = None
    return json.dumps(signature.to_json() if signature else None).encode()


def _tar(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    """Answer with name, place and size of every file of an archive, which holds ordinary files and nothing else."""
    import tarfile

    from kinetrum.core.base.errors import InvalidInput

    resource.setrlimit(resource.RLIMIT_CPU, (_TAR_CPU_S, _TAR_CPU_S))
    members: list[tuple[str, int, int]] = []
    end = 0
    try:
        with tarfile.open(fileobj=files[0], mode="r:") as bundle:
            for member in bundle:
                # A sparse member could claim far more bytes than arrived.
                if not member.isreg() or member.issparse() or member.size < 0:
                    raise InvalidInput(f"{member.name[:80]!r} is not an ordinary file.", field="body")
                members.append((member.name, member.offset_data, member.size))
                end = member.offset_data + member.size
                if len(members) > options["most"]:
                    raise InvalidInput(f"Over {options['most']:,} files came together; send fewer.", field="body")
    except InvalidInput:
        raise
    except (tarfile.TarError, ValueError, OverflowError, EOFError) as error:
        raise InvalidInput(f"The body is not a tar archive ({error}).", field="body") from None
    files[0].seek(end)
    if files[0].read().strip(b"\0"):
        # The library takes a header that it cannot read for the end.
        raise InvalidInput(f"The archive cannot be read beyond its file {len(members)}.", field="body")
    return json.dumps(members).encode()


def _thumbnails(files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    """Answer with one line of JSON, which has the length of each picture or null, and the pictures behind it."""
    from kinetrum.core.media.thumbnails import make_thumbnail

    made = [make_thumbnail(file, options["side"]) for file in files]
    sizes = json.dumps([None if picture is None else len(picture) for picture in made])
    return sizes.encode() + b"\n" + b"".join(picture or b"" for picture in made)


TASKS: dict[str, Callable[[list[BinaryIO], dict[str, Any]], bytes]] = {
    "preview": _preview,
    "rows": _rows,
    "judged": _judged,
    "signature": _signature,
    "thumbnails": _thumbnails,
    "tar": _tar,
}


def main() -> None:
    """Take the limits before anything that reads is even loaded."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # What reads files must not take the service's room to breathe.
    os.nice(5)
    task = sys.argv[1]
    if task == "rows":
        _load_rows()
    request_bytes = sys.stdin.buffer.read()
    if not request_bytes:
        return
    request = json.loads(request_bytes)
    with ExitStack() as opened:
        files: list[BinaryIO] = [opened.enter_context(Path(path).open("rb")) for path in request["paths"]]
        sys.stdout.buffer.write(_answer(task, files, request["given"]))


def _load_rows() -> None:
    """Load what reads tables by reading a small one: some parts are only loaded when they are first used."""
    from kinetrum.core.rows.joining import join_tables
    from kinetrum.core.rows.reading import read_rows
    from kinetrum.core.rows.row_query import RowQuery

    table = read_rows(io.BytesIO(b"row,truth,prediction\na,1,1\n"), "small.csv")
    join_tables(table, table, "row", (), RowQuery(sort="row"))


def _answer(task: str, files: list[BinaryIO], options: dict[str, Any]) -> bytes:
    from kinetrum.core.base.errors import KinetrumError

    try:
        return TASKS[task](files, options)
    except KinetrumError as error:
        return json.dumps({"error": type(error).__name__, "message": str(error), "field": error.field}).encode()


if __name__ == "__main__":
    main()
