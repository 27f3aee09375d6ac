"""Addresses of runs that several processes of this machine record to, by their ids: nobody waits for the service.

Loaded by commands that record a line and leave, so it takes nothing that is heavy.
"""

from __future__ import annotations

import contextlib
import json
import os
import time

from kinetrum.client.capture.host import host_identity, machine_text
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.places import make_private_folder

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kinetrum.core.base.values import JsonObject, Value

_KEPT_S = 90 * 86_400
Root = str | os.PathLike[str]


def _file(root: Root, run: str) -> str:
    id_bytes(run, "run")
    return os.path.join(root, "runs", f"{run}.json")


def keep_address(root: Root, address: dict[str, str], params: JsonObject | None = None) -> None:
    """Keep a run's address for later processes, with its parameters in their JSON form.

    Addresses of runs that nobody ended are forgotten after 90 days.
    """
    path = _file(root, address["run"])
    folder = os.path.dirname(path)
    make_private_folder(folder)
    for old in os.scandir(folder):
        with contextlib.suppress(OSError):
            if time.time() - old.stat().st_mtime > _KEPT_S:
                os.unlink(old)
    # The identity takes a library to make that a short command had better not load.
    machine = {"text": machine_text(), "identity": host_identity().hex()}
    _write(path, {**address, "machine": machine, "params": params or {}})


def read_kept(root: Root, run: str) -> JsonObject | None:
    """Return all that is kept of a run begun on this machine: its address, `params`, `machine`, perhaps `ended`."""
    try:
        with open(_file(root, run), encoding="utf-8") as file:
            kept: JsonObject = json.load(file)
    except (OSError, ValueError):
        return None
    return kept


def address_in(kept: JsonObject) -> dict[str, str]:
    """Return a run's address from what is kept of it."""
    return {key: kept[key] for key in ("run", "to", "project", "experiment")}


def known_address(root: Root, run: str) -> dict[str, str] | None:
    """Return the address of a run that was begun on this machine, None of others.

    Raises Conflict for a run that was ended on this machine.
    """
    kept = read_kept(root, run)
    if kept is not None and kept.get("ended"):
        raise Conflict(f"This run is {kept['ended']}; 'kinetrum begin' begins another.")
    return address_in(kept) if kept is not None else None


def known_params(root: Root, run: str) -> dict[str, Value]:
    """Return the parameters that commands of this machine set in a run."""
    from kinetrum.core.base.values import from_json

    kept = read_kept(root, run) or {}
    return {key: from_json(value, key) for key, value in kept.get("params", {}).items()}


def keep_params(root: Root, run: str, params: dict[str, Value]) -> None:
    """Keep the parameters of a run for the commands that come after."""
    from kinetrum.core.base.values import to_json

    keep_changes(root, run, {"params": {key: to_json(value) for key, value in params.items()}})


def keep_end(root: Root, run: str, status: str) -> None:
    """Keep that a run was ended, so that later commands record nothing to it."""
    keep_changes(root, run, {"ended": status})


def keep_changes(root: Root, run: str, changes: JsonObject) -> None:
    """Keep what changed of a run that was begun on this machine; of others nothing is kept."""
    kept = read_kept(root, run)
    if kept is not None:
        _write(_file(root, run), kept | changes)


def _write(path: str, kept: JsonObject) -> None:
    part = f"{path}.{os.getpid()}.part"
    with open(part, "w", encoding="utf-8") as file:
        json.dump(kept, file)
    os.replace(part, path)


def forget_address(root: Root, run: str) -> None:
    """The run has ended."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(_file(root, run))


def named_run(reference_given: str | None) -> str:
    """Return the run that is meant: the one given, else KINETRUM_RUN; raises NotFound where neither names one."""
    reference = reference_given or os.environ.get("KINETRUM_RUN")
    if not reference:
        raise NotFound(
            "No run is named: begin one with export KINETRUM_RUN=$(kinetrum begin EXPERIMENT), or give --run.",
            field="run",
        )
    if any(sign.isspace() for sign in reference):
        raise InvalidInput(f"{reference!r} names no run.", field="run")
    return reference
