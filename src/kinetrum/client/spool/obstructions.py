"""What stands in the way of what waits: written down by whoever delivers, for whoever looks or waits.

Imported where programs end, so it takes nothing that is heavy.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from dataclasses import asdict, dataclass
from pathlib import Path

from kinetrum.client.spool.layout import LANES, note_path
from kinetrum.core.base import errors
from kinetrum.places import make_private_folder

# What of the environment decides how a service is reached.
PROXIES = ("HTTPS_PROXY", "HTTP_PROXY", "ALL_PROXY", "https_proxy", "http_proxy", "all_proxy")
NETWORK_SETTINGS = (*PROXIES, "NO_PROXY", "no_proxy", "SSL_CERT_FILE", "SSL_CERT_DIR")
# In a writer's folder: what stands in the way of that writer alone, for its records and for its files.
HELD_NOTE, HELD_FILES_NOTE = "held.json", "held-files.json"


class NotYet(errors.Unavailable):
    """The run is not known yet: another process on another machine began it, and that has still to arrive."""


@dataclass(frozen=True)
class Obstruction:
    """Why nothing arrives at a destination; moments are seconds since 1970.

    `tried_at` is the moment at which the last try began: one that began before somebody asked for another is not the
    answer to that.
    `kind` is `not-signed-in`, `unavailable`, or `unknown-run`: the run's beginning has still to arrive.
    """

    kind: str
    reason: str
    since: float
    tried_at: float
    next_try: float

    def error(self) -> errors.KinetrumError:
        """Return the error that says this."""
        return (errors.NotSignedIn if self.kind == "not-signed-in" else errors.Unavailable)(self.reason)


def write_note(path: Path, obstruction: Obstruction | None) -> None:
    """Write down what stands in a way, or that nothing does; where that fails, nobody is told and nothing is lost."""
    with contextlib.suppress(OSError):
        make_private_folder(str(path.parent))
        part = path.with_suffix(".part")
        part.write_text(json.dumps(asdict(obstruction) if obstruction is not None else None))
        os.replace(part, path)


def note_held(path: Path, error: errors.Unavailable, tried_at: float, pause_s: float) -> None:
    """Write down what stands in one writer's way since a try that began at `tried_at`."""
    kind, before = "unknown-run" if isinstance(error, NotYet) else "unavailable", read_note(path)
    since = before.since if before is not None and before.kind == kind else tried_at
    write_note(path, Obstruction(kind, str(error), since, tried_at, time.time() + pause_s))


def read_note(path: Path) -> Obstruction | None:
    """Return what stood in a way at the last try, None where nothing did or nothing was tried."""
    try:
        fields = json.loads(path.read_text())
        return Obstruction(**fields) if fields is not None else None
    except (OSError, ValueError, TypeError):
        return None


def note_file(root: Path, name: str, lane: str) -> Path:
    """Return where it is written down what stands in the way of a destination."""
    return Path(note_path(root, name, lane))


def obstruction_of(root: Path, name: str) -> Obstruction | None:
    """Return what stands in the way of a destination, by the last tries."""
    notes = [read_note(note_file(root, name, lane)) for lane in LANES]
    return next((obstruction for obstruction in notes if obstruction is not None), None)


def last_word(root: Path, name: str) -> float:
    """Return when a way was last seen open or closed, in seconds since 1970; zero for never."""
    latest = 0.0
    for lane in LANES:
        with contextlib.suppress(OSError):
            latest = max(latest, note_file(root, name, lane).stat().st_mtime)
    return latest


def ask_again(root: Path) -> float:
    """Ask whoever delivers to try again at once, by the proxies and authorities that are set here and now.

    Returns the moment of asking in seconds since 1970.
    """
    path, now = root / "asked", time.time()
    settings = {name: os.environ[name] for name in NETWORK_SETTINGS if name in os.environ}
    with contextlib.suppress(OSError):
        part = root / f"asked.{os.getpid()}.part"
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w") as file:
            json.dump(settings, file)
        os.utime(part, (now, now))
        os.replace(part, path)
    return now


def take_settings(root: Path) -> None:
    """Take over the proxies and authorities of whoever asked last."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        settings = json.loads((root / "asked").read_text())
        for name in NETWORK_SETTINGS:
            os.environ.pop(name, None)
        os.environ.update({name: text for name, text in settings.items() if name in NETWORK_SETTINGS})


def asked_at(root: Path) -> float:
    """Return when somebody last asked for another try; zero for never."""
    try:
        return (root / "asked").stat().st_mtime
    except OSError:
        return 0.0
