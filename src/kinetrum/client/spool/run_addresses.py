"""Addresses of runs that several processes of this machine record to, by their ids: nobody waits for the service."""

from __future__ import annotations

import contextlib
import json
import os
import time
from pathlib import Path

from kinetrum.client.capture.host import host_identity, machine_text
from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.values import Value, from_json, to_json

_KEPT_S = 90 * 86_400


def _file(root: Path, run: str) -> Path:
    id_bytes(run, "run")
    return root / "runs" / f"{run}.json"


def keep_address(root: Path, address: dict[str, str]) -> None:
    """Keep a run's address for later processes; addresses of runs that nobody ended are forgotten after 90 days."""
    path = _file(root, address["run"])
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    for old in path.parent.glob("*.json"):
        with contextlib.suppress(OSError):
            if time.time() - old.stat().st_mtime > _KEPT_S:
                old.unlink()
    part = path.with_suffix(f".{os.getpid()}.part")
    machine = {"text": machine_text(), "identity": host_identity().hex()}
    part.write_text(json.dumps({**address, "machine": machine}))
    os.replace(part, path)


def known_address(root: Path, run: str) -> dict[str, str] | None:
    """Return the address of a run that was begun on this machine, None of others.

    Raises Conflict for a run that was ended on this machine.
    """
    try:
        fields: dict[str, str] = json.loads(_file(root, run).read_text())
    except (OSError, ValueError):
        return None
    if fields.get("ended"):
        raise Conflict(f"This run is {fields['ended']}; 'kinetrum begin' begins another.")
    return _address(fields)


def address_of(root: Path, run: str) -> dict[str, str] | None:
    """Return the address of a run that was begun on this machine, also of one that was ended; None of others."""
    try:
        return _address(json.loads(_file(root, run).read_text()))
    except (OSError, ValueError):
        return None


def _address(fields: dict[str, str]) -> dict[str, str]:
    return {key: fields[key] for key in ("run", "to", "project", "experiment")}


def known_params(root: Path, run: str) -> dict[str, Value]:
    """Return the parameters that commands of this machine set in a run."""
    try:
        params = json.loads(_file(root, run).read_text()).get("params", {})
    except (OSError, ValueError):
        return {}
    return {key: from_json(value, key) for key, value in params.items()}


def keep_params(root: Path, run: str, params: dict[str, Value]) -> None:
    """Keep the parameters of a run for the commands that come after."""
    _change(root, run, params={key: to_json(value) for key, value in params.items()})


def keep_end(root: Path, run: str, status: str) -> None:
    """Keep that a run was ended, so that later commands record nothing to it."""
    _change(root, run, ended=status)


def _change(root: Path, run: str, **fields: object) -> None:
    path = _file(root, run)
    try:
        kept_fields = json.loads(path.read_text()) | fields
    except (OSError, ValueError):
        return
    part = path.with_suffix(f".{os.getpid()}.part")
    part.write_text(json.dumps(kept_fields))
    os.replace(part, path)


def forget_address(root: Path, run: str) -> None:
    """The run has ended."""
    _file(root, run).unlink(missing_ok=True)


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
