"""Folders on this machine: the private instance, saved connections, the spool.

Loaded by commands that record a line and leave: only what needs more than texts takes the module of paths.
"""

from __future__ import annotations

import errno
import os
import stat
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from pathlib import Path


def _path(text: str) -> Path:
    from pathlib import Path

    return Path(text)


def _base(variable: str, default: str) -> str:
    chosen = os.environ.get(variable)
    return chosen if chosen and os.path.isabs(chosen) else os.path.join(_home_text(), default)


def _home_text() -> str:
    home = os.path.expanduser("~")
    if home != "~":
        return home
    try:
        return str(private_temporary("kinetrum-home"))
    except OSError:
        # Nothing can be kept; what is recorded is held in memory.
        return "/nonexistent"


def home_folder() -> Path:
    """Return the person's home; without one, as in containers, a folder of this user's among the temporary files."""
    return _path(_home_text())


def has_home() -> bool:
    """Tell whether the person has a home folder."""
    return os.path.expanduser("~") != "~"


def make_private_folder(path: str) -> None:
    """Make a folder, where it is not there yet, and every missing one above it, closed to others.

    The standard library closes the last one only. Raises OSError where it cannot be made.
    """
    try:
        _make_one_folder(path)
    except FileNotFoundError:
        above = os.path.dirname(path)
        if above in ("", path):
            raise
        make_private_folder(above)
        # Not from the start again: some folders, such as those of processes, take none and say that they are not there.
        _make_one_folder(path)


def _make_one_folder(path: str) -> None:
    try:
        os.mkdir(path, 0o700)
    except OSError:
        # Some file systems say of a folder that is there that they are read only, or closed.
        if not os.path.isdir(path):
            raise


_own_temporary: dict[str, Path] = {}


def private_temporary(name: str) -> Path:
    """Return a folder among the temporary files that is this user's alone.

    Everybody may make folders there: one of that name that belongs to somebody else, or is open to others, is not
    taken, since tokens would be written into it; this process has one of its own then.
    """
    import tempfile
    from pathlib import Path

    if name in _own_temporary:
        return _own_temporary[name]
    if Path(tempfile.gettempdir()) == Path.cwd() != Path(os.environ.get("TMPDIR", "/")):
        # Where no place for temporary files can be written, Python names the working folder: that is somebody's own.
        raise OSError(errno.ENOSPC, "no folder for temporary files can be written")
    path = Path(tempfile.gettempdir()) / f"{name}-{os.getuid()}"
    try:
        path.mkdir(mode=0o700, exist_ok=True)
        status = path.lstat()
        if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.getuid() or status.st_mode & 0o077:
            path = Path(tempfile.mkdtemp(prefix=f"{name}-{os.getuid()}-"))
    except FileExistsError:
        path = Path(tempfile.mkdtemp(prefix=f"{name}-{os.getuid()}-"))
    _own_temporary[name] = path
    return path


def _folder(kind: str) -> str:
    if sys.platform.startswith("linux"):
        variable, default = {
            "data": ("XDG_DATA_HOME", ".local/share"),
            "config": ("XDG_CONFIG_HOME", ".config"),
            "state": ("XDG_STATE_HOME", ".local/state"),
        }[kind]
        return os.path.join(_base(variable, default), "kinetrum")
    import platformdirs

    return str(getattr(platformdirs, f"user_{kind}_path")("kinetrum", appauthor=False))


def _chosen_or(variable: str, kind: str, name: str) -> str:
    """Return the place that a variable of the environment chooses, else the one of that name in a person's folder."""
    chosen = os.environ.get(variable)
    return os.path.join(os.getcwd(), os.path.expanduser(chosen)) if chosen else os.path.join(_folder(kind), name)


def instance_folder() -> Path:
    """Return the private instance's folder: KINETRUM_HOME, else under the person's data folder."""
    return _path(_chosen_or("KINETRUM_HOME", "data", "instance"))


def connections_file() -> Path:
    """Return the file of saved connections: KINETRUM_CONNECTIONS, else under the person's configuration folder."""
    return _path(_chosen_or("KINETRUM_CONNECTIONS", "config", "connections.json"))


def spool_folder() -> Path:
    """Return the spool: KINETRUM_SPOOL, else under the person's state folder."""
    return _path(spool_text())


def spool_text() -> str:
    """Return the spool's folder as a text."""
    return _chosen_or("KINETRUM_SPOOL", "state", "spool")


def fingerprints_file() -> Path:
    """Return the memory of fingerprints: KINETRUM_FINGERPRINTS, else under the person's state folder."""
    return _path(_chosen_or("KINETRUM_FINGERPRINTS", "state", "fingerprints.sqlite"))


def spare_spool_folder() -> Path:
    """Return the folder among the temporary files that takes the spool's place where that is forbidden."""
    return private_temporary("kinetrum-spool")


def spool_folders() -> list[Path]:
    """Return where undelivered records may lie: the spool, and the spare one if it was ever needed."""
    import tempfile

    spare = _path(tempfile.gettempdir()).glob(f"kinetrum-spool-{os.getuid()}*")
    own = [path for path in sorted(spare) if stat.S_ISDIR(path.lstat().st_mode) and path.stat().st_uid == os.getuid()]
    return [spool_folder(), *own]


def spool_limit_bytes() -> int:
    """Return how much one process may leave undelivered on the disk: KINETRUM_SPOOL_LIMIT in MiB, else 20 GiB."""
    chosen = os.environ.get("KINETRUM_SPOOL_LIMIT", "")
    return int(chosen) * 2**20 if chosen.isascii() and chosen.isdigit() else 20 * 2**30
