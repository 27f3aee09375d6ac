"""Where the next run of a shell goes is known from the one before, as long as nothing changed that it depends on.

Finding out anew where to record takes longer than all else that `kinetrum begin` does. What it depends on is kept with
the answer: variables of the environment, the working folder, and files as they stood. Takes nothing that is heavy.
"""

from __future__ import annotations

import json
import os
import time

from kinetrum import locks
from kinetrum.client.capture.host import host_identity, machine_text, take_identity

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

_VARIABLES = (
    *(f"KINETRUM_{name}" for name in ("URL", "TOKEN", "PROJECT", "EXPERIMENT", "HOME", "CONNECTIONS", "LEAVE_OUT")),
    *("HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME"),
)
Stamp = list[int] | None
# No process lives as long as a run that a shell began; after a day of silence it counts as lost.
LEASE_S = 86_400
# What can be learned of this process says nothing about the shell's run; the shell's own command is not known.
NOT_OF_A_SHELL = frozenset({"command", "packages", "resources", "output"})
# After so many seconds it is found out anew in any case.
_KEPT_S = 3_600.0


class ShellPlace:
    """Where runs go that a shell begins: `project` and `experiment` where none is named, `to` the destination."""

    def __init__(self, project: str, experiment: str, to: str, left_out: Iterable[str]) -> None:
        self.project, self.experiment, self.to = project, experiment, to
        self.left_out = frozenset(left_out)


def keep_place(root: str, place: ShellPlace, connections: str, instances: Iterable[str]) -> None:
    """Keep a place together with what it depends on.

    `connections` is the file of saved connections, `instances` the folders of private instances that were asked.
    """
    files = [connections, *(os.path.join(folder, name) for folder in instances for name in ("token", "state.json"))]
    fields = {
        "place": [place.project, place.experiment, place.to, sorted(place.left_out)],
        "variables": _variables(),
        "folder": os.getcwd(),
        "files": _stamps([*files, *_settings_files(os.getcwd())]),
        "locks": _locks(os.path.join(folder, "lock") for folder in instances),
        "destination": _text(_destination_file(root, place.to)),
        "machine": {"text": machine_text(), "identity": host_identity().hex()},
        "at": time.time(),
    }
    path = _file(root)
    part = f"{path}.{os.getpid()}.part"
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(fields, file)
    os.replace(part, path)


def known_place(root: str) -> ShellPlace | None:
    """Return where a run goes that begins here and now; None where that has to be found out.

    Raises ValueError or OSError for a file that cannot be read.
    """
    text = _text(_file(root))
    if text is None:
        return None
    fields = json.loads(text)
    project, experiment, to, left_out = fields["place"]
    holds = (
        0 <= time.time() - fields["at"] < _KEPT_S
        and fields["variables"] == _variables()
        and fields["folder"] == os.getcwd()
        and fields["files"] == _stamps(fields["files"])
        and fields["locks"] == _locks(fields["locks"])
        and fields["destination"] is not None
        and fields["destination"] == _text(_destination_file(root, to))
    )
    if not holds:
        return None
    take_identity(**fields["machine"])
    return ShellPlace(project, experiment, to, left_out)


def _file(root: str) -> str:
    return os.path.join(root, "shell-place.json")


def _destination_file(root: str, to: str) -> str:
    return os.path.join(root, "destinations", f"{to}.json")


def _variables() -> dict[str, str | None]:
    return {name: os.environ.get(name) for name in _VARIABLES}


def _settings_files(folder: str) -> list[str]:
    """Return where a kinetrum.toml would be found, from a folder upwards."""
    paths = [os.path.join(folder, "kinetrum.toml")]
    while folder != os.path.dirname(folder):
        folder = os.path.dirname(folder)
        paths.append(os.path.join(folder, "kinetrum.toml"))
    return paths


def _stamps(paths: Iterable[str]) -> dict[str, Stamp]:
    """Return what tells whether files are those that they were; each of them is replaced as a whole."""
    stamps: dict[str, Stamp] = {}
    for path in paths:
        try:
            status = os.stat(path)
            stamps[path] = [status.st_mtime_ns, status.st_ino, status.st_size]
        except OSError:
            stamps[path] = None
    return stamps


def _locks(paths: Iterable[str]) -> dict[str, bool]:
    """Return which private instances run: each holds its lock as long as it does."""
    return {path: locks.is_held(path) for path in paths}


def _text(path: str) -> str | None:
    try:
        with open(path, encoding="utf-8") as file:
            return file.read()
    except FileNotFoundError:
        return None
