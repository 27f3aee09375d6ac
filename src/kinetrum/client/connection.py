"""Which service, as whom, and which project and experiment: found in one agreed order.

Strongest first: the argument; KINETRUM_URL, KINETRUM_TOKEN, KINETRUM_PROJECT, KINETRUM_EXPERIMENT;
the nearest kinetrum.toml upwards; the saved connection; the instance on this machine.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kinetrum.core.errors import InvalidInput, Unavailable
from kinetrum.places import connections_file, instance_folder

DEFAULT_PROJECT, DEFAULT_EXPERIMENT = "main", "scratch"


@dataclass(frozen=True)
class Connection:
    """Where to record and read; `token` may be None where none is known."""

    url: str
    token: str | None
    project: str
    experiment: str

    @property
    def chosen_experiment(self) -> str | None:
        """The experiment that was named somewhere; None where none was, so that all are meant."""
        return None if self.experiment == DEFAULT_EXPERIMENT else self.experiment


def check_url(url: str) -> str:
    """Return an address without its last slash; raises InvalidInput unless it is http or https."""
    if not url.startswith(("http://", "https://")) or url.count("/") < 2 or not url.split("/")[2]:
        raise InvalidInput(f"{url!r} is no address of a service; write http://HOST:PORT or https://HOST.", field="url")
    return url.rstrip("/")


def saved() -> dict[str, Any]:
    """Return the saved connections: {"current": URL, "connections": {URL: {"token", "project"}}}."""
    try:
        found: dict[str, Any] = json.loads(connections_file().read_text())
    except (OSError, ValueError):
        return {"current": None, "connections": {}}
    return found


def save(url: str, token: str, project: str | None) -> str | None:
    """Save a connection and make it the current one; returns the address that was current before."""
    known = saved()
    before: str | None = known.get("current")
    entry = known["connections"].get(url, {})
    known["connections"][url] = {"token": token, "project": project or entry.get("project")}
    known["current"] = url
    path = connections_file()
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = path.with_name(path.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(known, file, indent=1)
    os.replace(part, path)
    return before if before != url else None


def nearest_file() -> dict[str, Any]:
    """Return the nearest kinetrum.toml upwards from the working folder, empty where there is none."""
    folder = Path.cwd()
    for place in (folder, *folder.parents):
        path = place / "kinetrum.toml"
        if path.is_file():
            import tomllib

            try:
                return tomllib.loads(path.read_text(encoding="utf-8"))
            except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
                raise InvalidInput(f"{path} is no TOML: {error}.", field="kinetrum.toml") from None
    return {}


def _this_machine() -> tuple[str, str] | None:
    folder = instance_folder()
    try:
        url = json.loads((folder / "state.json").read_text())["url"]
        return url, (folder / "token").read_text().strip()
    except (OSError, ValueError, KeyError):
        return None


def _first(*found: str | None) -> str | None:
    return next((text for text in found if text), None)


def find_connection(
    url: str | None = None,
    project: str | None = None,
    experiment: str | None = None,
    *,
    needs_service: bool = True,
) -> Connection:
    """Find where to record and read; raises Unavailable where nothing says so and a service is needed."""
    file = nearest_file()
    known = saved()
    address = _first(url, os.environ.get("KINETRUM_URL"), file.get("url"), known.get("current"))
    token = os.environ.get("KINETRUM_TOKEN")
    if address is None:
        local = _this_machine()
        if local is not None:
            address, token = local[0], token or local[1]
    if address is None:
        if needs_service:
            raise Unavailable(
                "No service is known here. Start one with 'kinetrum up', or connect to one with 'kinetrum connect URL'."
            )
        address = "http://127.0.0.1:7373"
    address = check_url(address)
    entry = known["connections"].get(address, {})
    if token is None:
        local = _this_machine()
        token = entry.get("token") or (local[1] if local and local[0] == address else None)
    return Connection(
        address,
        token,
        _first(project, os.environ.get("KINETRUM_PROJECT"), file.get("project"), entry.get("project"))
        or DEFAULT_PROJECT,
        _first(experiment, os.environ.get("KINETRUM_EXPERIMENT"), file.get("experiment")) or DEFAULT_EXPERIMENT,
    )
