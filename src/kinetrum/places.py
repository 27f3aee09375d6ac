"""Folders on this machine: the private instance, saved connections, the spool."""

from __future__ import annotations

import os
import sys
from pathlib import Path


def _base(variable: str, default: str) -> Path:
    chosen = os.environ.get(variable)
    return Path(chosen) if chosen and os.path.isabs(chosen) else Path.home() / default


def _folder(kind: str) -> Path:
    if sys.platform.startswith("linux"):
        variable, default = {
            "data": ("XDG_DATA_HOME", ".local/share"),
            "config": ("XDG_CONFIG_HOME", ".config"),
            "state": ("XDG_STATE_HOME", ".local/state"),
        }[kind]
        return _base(variable, default) / "kinetrum"
    import platformdirs

    found: Path = getattr(platformdirs, f"user_{kind}_path")("kinetrum", appauthor=False)
    return found


def instance_folder() -> Path:
    """Return the private instance's folder: KINETRUM_HOME, else under the person's data folder."""
    chosen = os.environ.get("KINETRUM_HOME")
    return Path(chosen).expanduser().absolute() if chosen else _folder("data") / "instance"


def connections_file() -> Path:
    """Return the file of saved connections: KINETRUM_CONNECTIONS, else under the person's configuration folder."""
    chosen = os.environ.get("KINETRUM_CONNECTIONS")
    return Path(chosen).expanduser().absolute() if chosen else _folder("config") / "connections.json"


def spool_folder() -> Path:
    """Return the spool: KINETRUM_SPOOL, else under the person's state folder."""
    chosen = os.environ.get("KINETRUM_SPOOL")
    return Path(chosen).expanduser().absolute() if chosen else _folder("state") / "spool"


def fingerprints_file() -> Path:
    """Return the memory of fingerprints: KINETRUM_FINGERPRINTS, else under the person's state folder."""
    chosen = os.environ.get("KINETRUM_FINGERPRINTS")
    return Path(chosen).expanduser().absolute() if chosen else _folder("state") / "fingerprints.sqlite"


def spare_spool_folder() -> Path:
    """Return the folder among the temporary files that takes the spool's place where that is forbidden."""
    import tempfile

    return Path(tempfile.gettempdir()) / f"kinetrum-spool-{os.getuid()}"


def spool_folders() -> list[Path]:
    """Return where undelivered records may lie: the spool, and the spare one if it was ever needed."""
    spare = spare_spool_folder()
    return [spool_folder(), *([spare] if spare.is_dir() and spare.stat().st_uid == os.getuid() else [])]


def spool_limit_bytes() -> int:
    """Return how much one process may leave undelivered on the disk: KINETRUM_SPOOL_LIMIT in MiB, else 20 GiB."""
    chosen = os.environ.get("KINETRUM_SPOOL_LIMIT", "")
    return int(chosen) * 2**20 if chosen.isascii() and chosen.isdigit() else 20 * 2**30
