"""Archives from Python: a run, an experiment or an artifact out of one instance and into another."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from kinetrum.client.http import path_of
from kinetrum.client.session import open_session
from kinetrum.client.ticks import Tick
from kinetrum.core.errors import Damaged, InvalidInput, NotFound, Unavailable

_PIECE = 1024 * 1024


def export(
    of: str, to: str | Path, *, with_files: bool = True, license_text: str = "", project: str | None = None,
    url: str | None = None, tick: Tick | None = None,
) -> int:  # fmt: skip
    """Write a run (`frost-alarm/42`), `experiment:NAME`, `artifact:NAME` or `NAME@NUMBER` to a file as an RO-Crate.

    Everything that belongs to it comes along: settings, points, output, and the versions that were used and
    generated. Returns the file's size in bytes. Raises Damaged where stored bytes are; nothing is left then.
    """
    if of.startswith("model:"):
        raise InvalidInput(
            f"{of} is a model, and models are not exported; export the artifact that its version was registered from.",
            field="of",
        )
    session = open_session(project, url)
    target = Path(to)
    part = target.with_name(f".{target.name}.{os.getpid()}.part")
    options = {"of": of, "with_files": with_files} | ({"license": license_text} if license_text else {})
    begun = False
    try:
        path = path_of("projects", session.project, "archive")
        with session.service.stream(path, options) as response, part.open("wb") as file:
            begun = True
            for piece in response.iter_raw(_PIECE):
                file.write(piece)
                if tick:
                    tick(len(piece))
        os.replace(part, target)
    except Unavailable as error:
        if not begun:
            raise
        raise Damaged(
            f"The service broke off the archive ({error}): stored bytes may be damaged; ask its administrator to look."
        ) from error
    finally:
        part.unlink(missing_ok=True)
    return target.stat().st_size


def import_(
    path: str | Path, *, project: str | None = None, url: str | None = None, tick: Tick | None = None
) -> dict[str, Any]:
    """Take an archive in; returns what it brought: `runs` and `versions` by their references there.

    Identities and times are kept, and everything is marked as imported. What is here already is named in `known`;
    `remarks` tell what is different here, such as another number. Raises InvalidInput for a bad archive.
    """
    source = Path(path)
    if not source.is_file():
        raise NotFound(f"{path} is not there; give the path of an archive.", field="path")
    session = open_session(project, url)

    def pieces() -> Iterator[bytes]:
        with source.open("rb") as file:
            while piece := file.read(_PIECE):
                if tick:
                    tick(len(piece))
                yield piece

    found: dict[str, Any] = session.service.call(
        "POST", path_of("projects", session.project, "imports"), content=pieces(), timeout=3_600,
        headers={"Content-Type": "application/zip", "Content-Length": str(source.stat().st_size)},
    )  # fmt: skip
    return found
