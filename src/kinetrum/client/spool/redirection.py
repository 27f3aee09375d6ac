"""What waits in the spool and cannot go where it was meant to: sent somewhere else, or given up."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path

from kinetrum.client.sender.delivery import Delivery
from kinetrum.client.sender.file_queue import read_later, waiting_files
from kinetrum.client.spool.destinations import Destination, destination_of, read_destination, replace_destination
from kinetrum.client.spool.draining import addresses_now
from kinetrum.client.spool.layout import JSON
from kinetrum.client.spool.obstructions import ask_again, obstruction_of
from kinetrum.client.spool.status import Undelivered, records_behind, undelivered
from kinetrum.client.transport.connection import Connection
from kinetrum.client.transport.http import Service, path_of
from kinetrum.core.base.errors import Conflict, NotFound, Unavailable


@dataclass
class _Waiting:
    """A run of which something waits: its project, its destinations, and whether its beginning waits too."""

    projects: set[str] = field(default_factory=set)
    destinations: set[str] = field(default_factory=set)
    begins: bool = False


def redirect(root: Path, connection: Connection, of: str | None = None) -> list[Undelivered]:
    """Let what waits go to another service from now on; returns what that is.

    `of` names the address that it was meant for; without it, everything is meant that could not be delivered at the
    last try. Raises Unavailable or NotSignedIn where the other service does not take it, Conflict where a run began
    at the earlier address and the other service does not know it.
    """
    meant = destination_of(connection)
    address = str(connection.url)
    waiting = [item for item in undelivered(root) if item.obstacle is None]
    names = {name for item in waiting for name in item.destinations if _is_chosen(root, name, of, address)}
    if not names:
        return []
    service = Service(address, connection.token)
    try:
        service.get("/session")
        _check_known(root, service, names)
    finally:
        service.close()
    for name in names:
        replace_destination(root, name, meant)
    ask_again(root)
    return [item for item in waiting if names & set(item.destinations)]


def _is_chosen(root: Path, name: str, of: str | None, address: str) -> bool:
    now = addresses_now(root, name)
    if of is not None:
        return of in now or of == _kept_address(root, name)
    return address not in now and (not now or obstruction_of(root, name) is not None)


def _kept_address(root: Path, name: str) -> str | None:
    try:
        destination: Destination = read_destination(root, name)
    except Unavailable:
        return None
    return destination.url


def _check_known(root: Path, service: Service, names: set[str]) -> None:
    """Refuse to send the rest of a run to where its beginning is not."""
    runs = _runs_waiting(root)
    strangers = [
        run
        for run, waiting in sorted(runs.items())
        if waiting.destinations & names and not waiting.begins and not _knows(service, run, waiting.projects)
    ]
    if strangers:
        count = "1 run" if len(strangers) == 1 else f"{len(strangers)} runs"
        raise Conflict(
            f"{count} began elsewhere, and {service.url} does not know them: {', '.join(strangers[:4])}"
            f"{' …' if len(strangers) > 4 else ''}. Nothing was redirected. Move them there with 'kinetrum export' and "
            "'kinetrum import' first, or give up what waits with 'kinetrum spool discard --waiting'."
        )


def _knows(service: Service, run: str, projects: set[str]) -> bool:
    for project in projects:
        try:
            service.get(path_of("projects", project, "runs", run))
        except NotFound:
            continue
        return True
    return False


def _runs_waiting(root: Path) -> dict[str, _Waiting]:
    runs: dict[str, _Waiting] = {}
    for folder in (root / "writers").glob("*"):
        delivery = Delivery(folder)
        for run, address in delivery.open_runs.items():
            runs.setdefault(run, _Waiting()).projects.add(address["project"])
        for behind in records_behind(delivery):
            waiting = runs.setdefault(behind.run, _Waiting())
            waiting.destinations.add(behind.to)
            if behind.record.kind == JSON:
                waiting.projects.add(behind.record.data["project"])
                waiting.begins = waiting.begins or behind.record.data["op"] == "begin"
        for address in filter(None, map(read_later, waiting_files(folder))):
            waiting = runs.setdefault(address["run"], _Waiting())
            waiting.destinations.add(address["to"])
            waiting.projects.add(address["project"])
    return runs


def discard_waiting(root: Path, of: str | None = None, *, only_tell: bool = True) -> list[Undelivered]:
    """Give up what processes that have ended recorded and nobody took; returns what that is.

    `of` names the address that it was meant for; without it, what could not be delivered at the last try is meant.
    What still records is left alone.
    """
    waiting = [
        item
        for item in undelivered(root)
        if not item.alive and item.obstacle is None and item.destinations and _is_given_up(root, item, of)
    ]
    if not only_tell:
        for item in waiting:
            # Out of the sender's sight first, which may be about to read there.
            given_up = root / "opening" / f"{item.writer}-discarded"
            given_up.parent.mkdir(exist_ok=True, mode=0o700)
            os.rename(root / "writers" / item.writer, given_up)
            shutil.rmtree(given_up, ignore_errors=True)
    return waiting


def _is_given_up(root: Path, item: Undelivered, of: str | None) -> bool:
    if of is None:
        return item.obstruction is not None or not any(addresses_now(root, name) for name in item.destinations)
    return all(of in addresses_now(root, name) or of == _kept_address(root, name) for name in item.destinations)
