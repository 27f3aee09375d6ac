"""Which service, as whom, and which project and experiment: found in one agreed order.

Strongest first: the argument; KINETRUM_URL, KINETRUM_TOKEN, KINETRUM_PROJECT, KINETRUM_EXPERIMENT;
the nearest kinetrum.toml upwards; the saved connection; the instance on this machine.

A private instance is known by its folder, not by its address: it may come up on another port the next time, and
while it is down anybody may listen on the port that it had. What is meant for it goes to it alone.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from kinetrum import locks
from kinetrum.core.base.errors import InvalidInput, Unavailable
from kinetrum.core.base.values import JsonObject
from kinetrum.places import connections_file, instance_folder, make_private_folder

DEFAULT_PROJECT, DEFAULT_EXPERIMENT = "main", "scratch"


@dataclass(frozen=True)
class Connection:
    """Where to record and read; `token` may be None where none is known.

    `instance` is the folder of the private instance that is meant, where one is. `url` is None where no service is
    known yet, or where that instance does not run.
    """

    url: str | None
    token: str | None
    project: str
    experiment: str
    instance: Path | None = None

    @property
    def chosen_experiment(self) -> str | None:
        """The experiment that was named somewhere; None where none was, so that all are meant."""
        return None if self.experiment == DEFAULT_EXPERIMENT else self.experiment


def check_url(url: str) -> str:
    """Return an address without its last slash; raises InvalidInput unless it is http or https."""
    if not url.startswith(("http://", "https://")) or url.count("/") < 2 or not url.split("/")[2]:
        raise InvalidInput(
            f"{url!r} is not an address of a service; write http://HOST:PORT or https://HOST.", field="url"
        )
    return url.rstrip("/")


def saved(path: Path | None = None) -> JsonObject:
    """Return the saved connections: {"current": URL, "connections": {URL: {"token", "project", "instance", "ca"}}}."""
    try:
        connections: dict[str, object] = json.loads((path or connections_file()).read_text())
    except (OSError, ValueError):
        return {"current": None, "connections": {}}
    return connections


def save(url: str, token: str, project: str | None, instance: Path | None = None, ca: str | None = None) -> str | None:
    """Save a connection and make it the current one; returns the address that was current before.

    `instance` is the folder of the private instance that answers there; `ca` a file of certificates to trust there.
    """
    known = saved()
    before: str | None = known.get("current")
    entry = known["connections"].get(url, {})
    known["connections"][url] = {
        "token": token,
        "project": project or entry.get("project"),
        "instance": str(instance) if instance else None,
        "ca": ca,
    }
    known["current"] = url
    path = connections_file()
    make_private_folder(str(path.parent))
    part = path.with_name(path.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(known, file, indent=1)
    os.replace(part, path)
    return before if before != url else None


def nearest_file() -> JsonObject:
    """Return the nearest kinetrum.toml upwards from the working folder, empty where there is none."""
    folder = Path.cwd()
    for place in (folder, *folder.parents):
        path = place / "kinetrum.toml"
        if path.is_file():
            import tomllib

            try:
                return tomllib.loads(path.read_text(encoding="utf-8"))
            except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
                raise InvalidInput(f"{path} is not TOML: {error}.", field="kinetrum.toml") from None
    return {}


@dataclass(frozen=True)
class RunningInstance:
    """A private instance that answers now: its address and the token of the person who owns it."""

    url: str
    token: str


def running_instance(folder: Path) -> RunningInstance | None:
    """Return this person's instance with its data in that folder; None while it does not run.

    Its keeper holds a lock in the folder as long as it runs, and the token there is readable by its owner alone: so
    nobody else's service, and nothing that listens on the port that it had, is taken for it.
    """
    try:
        token = folder / "token"
        if token.stat().st_uid != os.getuid() or not locks.is_held(folder / "lock"):
            return None
        return RunningInstance(json.loads((folder / "state.json").read_text())["url"], token.read_text().strip())
    except (OSError, ValueError, KeyError):
        return None


def _first(*texts: str | None) -> str | None:
    return next((text for text in texts if text), None)


def find_connection(
    url: str | None = None,
    project: str | None = None,
    experiment: str | None = None,
    *,
    needs_service: bool = True,
) -> Connection:
    """Find where to record and read; raises Unavailable where nothing says so, or nothing runs, and one is needed."""
    file = nearest_file()
    known = saved()
    named = _first(url, os.environ.get("KINETRUM_URL"), file.get("url"))
    address = named or known.get("current")
    token = os.environ.get("KINETRUM_TOKEN") or None
    if address is not None:
        address = check_url(address)
    entry = known["connections"].get(address, {})
    folder = None
    if named is None and (address is None or entry.get("instance")):
        folder = Path(entry["instance"]) if address is not None else instance_folder()
        local = running_instance(folder)
        if local is None and needs_service:
            raise Unavailable(_no_service(address, folder))
        address, own_token = (local.url, local.token) if local else (None, None)
        if local is None and not (folder / "token").exists():
            # Nothing has ever run there: whichever service becomes known first is meant.
            folder = None
        token = token or own_token
    elif token is None:
        token = entry.get("token") or _token_of_own(address)
    return Connection(
        address,
        token,
        _first(project, os.environ.get("KINETRUM_PROJECT"), file.get("project"), entry.get("project"))
        or DEFAULT_PROJECT,
        _first(experiment, os.environ.get("KINETRUM_EXPERIMENT"), file.get("experiment")) or DEFAULT_EXPERIMENT,
        folder,
    )


def _no_service(address: str | None, folder: Path) -> str:
    if address is None and not (folder / "token").exists():
        return "No service is known here. Start one with 'kinetrum up', or connect to one with 'kinetrum connect URL'."
    return f"Your instance in {folder} does not run. Start it with 'kinetrum up'."


def _token_of_own(address: str | None) -> str | None:
    local = running_instance(instance_folder())
    return local.token if local and local.url == address else None
