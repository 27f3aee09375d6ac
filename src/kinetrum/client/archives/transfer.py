"""Archives from Python: a run, an experiment, an artifact or whole projects out of one instance and into another."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.progress import Tick
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.errors import Damaged, InvalidInput, NotFound, Unavailable

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

_PIECE = 1024 * 1024


def export(
    of: str | None,
    to: str | Path,
    *,
    with_files: bool = True,
    license_text: str = "",
    project: str | None = None,
    url: str | None = None,
    tick: Tick | None = None,
) -> int:
    """Write a run (`frost-alarm/42`), `experiment:NAME`, `artifact:NAME` or `NAME@NUMBER` to a file as an RO-Crate.

    None is the whole project: all of that, and its views, notes and models with their stages. Everything that belongs
    to what is exported comes along: settings, points, output, and the versions that were used and generated. Returns
    the file's size in bytes. Raises Damaged where stored bytes are; nothing is left then.
    `with_files` is False to leave the bytes of files out, `license_text` is the licence that the crate names.
    `tick` is told the bytes of each stretch that arrived. `url` names another service than the connection's.
    """
    if of is not None and of.startswith("model:"):
        raise InvalidInput(
            f"{of} is a model; models are exported with the whole of their project: give the project and no reference.",
            field="of",
        )
    options = {"of": of} if of is not None else {}
    options |= {"license": license_text} if license_text else {}
    return _download(open_session(project, url), {**options, "with_files": with_files}, Path(to), tick)


def export_everything(
    to: str | Path, *, with_files: bool = True, license_text: str = "", url: str | None = None, tick: Tick | None = None
) -> dict[str, int]:
    """Write every project that one may see to a folder, each as `PROJECT.zip`; returns their sizes in bytes by name.

    An archive that is there from before is replaced once the new one is complete.
    `with_files`, `license_text` and `tick` are those of `export`. `url` names another service than the
    connection's.
    """
    folder = Path(to)
    if folder.exists() and not folder.is_dir():
        raise InvalidInput(f"{to} is a file; everything goes to a folder, an archive for each project.", field="to")
    session = open_session(None, url)
    folder.mkdir(parents=True, exist_ok=True)
    names = [project_row["name"] for project_row in session.service.get("/projects")]
    return {
        name: export(
            None,
            folder / f"{name}.zip",
            with_files=with_files,
            license_text=license_text,
            project=name,
            url=url,
            tick=tick,
        )
        for name in names
    }


def _download(session: Session, options: dict[str, object], target: Path, tick: Tick | None) -> int:
    part = target.with_name(f".{target.name}.{os.getpid()}.part")
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
    path: str | Path,
    *,
    project: str | None = None,
    same_people: bool = False,
    url: str | None = None,
    tick: Tick | None = None,
) -> answers.Imported:
    """Take an archive in; returns what it brought: `runs`, `versions` and `models` by their references there, `views`.

    Identities and times are kept, and everything is marked as imported. What is here already stays and is named in
    `known`; `remarks` tell what differs. It becomes the importer's, with who is said to have made it in words; with
    `same_people` an administrator says that people are the accounts of the same names here. Raises InvalidInput for a
    bad archive, NotAllowed where one may not record here.
    `path` is the archive's. `tick` is told the bytes of each stretch that was sent. `project` and `url` say where;
    without them the environment's connection does, or the one that `kinetrum connect` saved.
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

    answer: answers.Imported = session.service.call(
        "POST",
        path_of("projects", session.project, "imports"),
        content=pieces(),
        timeout=3_600,
        params={"same_people": True} if same_people else None,
        headers={"Content-Type": "application/zip", "Content-Length": str(source.stat().st_size)},
    )
    return answer


def import_everything(
    folder: str | Path, *, same_people: bool = False, url: str | None = None, tick: Tick | None = None
) -> dict[str, answers.Imported]:
    """Take in a folder of `export_everything`: each archive into the project of its name, which is made if need be.

    Returns what each brought, by project. Raises NotAllowed where a project has to be made by an administrator first;
    what came before it is there then, and the next call goes on.
    `same_people` and `tick` are those of `import_`. `url` names another service than the connection's.
    """
    archives = sorted(Path(folder).glob("*.zip"))
    if not archives:
        raise NotFound(f"{folder} holds no archives (PROJECT.zip).", field="path")
    session = open_session(None, url)
    there = {project_row["name"] for project_row in session.service.get("/projects")}
    done = {}
    for archive in archives:
        name = archive.stem
        if name not in there:
            session.service.call("POST", "/projects", json={"name": name})
        done[name] = import_(archive, project=name, same_people=same_people, url=url, tick=tick)
    return done
