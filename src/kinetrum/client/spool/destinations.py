"""Where what lies in the spool goes: a service with a token, or the service of this machine, whichever that will be.

A folder of the spool keeps one file for each destination, readable by its owner only, so that whoever delivers later
knows where to. Records name their destination by the file's name.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import warnings
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.transport.connection import Connection, RunningInstance, running_instance, saved
from kinetrum.core.base.errors import Unavailable
from kinetrum.places import connections_file, instance_folder, make_private_folder

# What earlier versions kept where no service was known.
_ONCE_ASSUMED = "http://127.0.0.1:7373"


@dataclass(frozen=True)
class Destination:
    """Where records go. With a `url`, there; without, to the instance in a folder or to a connection saved since.

    `connections` is the file of saved connections that may decide; None where the instance alone is meant.
    """

    url: str | None
    token: str | None
    instance: Path | None = None
    connections: Path | None = None

    def targets(self, root: Path) -> list[tuple[str, str | None]]:
        """List the address with each token that may be valid there, the likeliest first, as things are now.

        Raises Unavailable where no service is known, or the instance that is meant does not run.
        """
        if self.url is not None:
            return self._with_tokens(root, self.url, self.token)
        if self.connections is not None:
            known = saved(self.connections)
            current = known.get("current")
            entry = known["connections"].get(current, {})
            if current and not entry.get("instance"):
                return self._with_tokens(root, current, self.token or entry.get("token"))
        local = self._running_instance()
        if local is None:
            raise Unavailable(self.why_nowhere())
        # The owner's token is in the folder and always valid there; another is tried first where one was given.
        return [(local.url, token) for token in _distinct(self.token, local.token)]

    @property
    def described(self) -> str:
        """Say where this is, in words for a table."""
        if self.url is not None:
            return self.url
        return f"the instance in {self.instance}" if self.connections is None else "the service of this machine"

    def _running_instance(self) -> RunningInstance | None:
        folder = self.instance
        if self.connections is not None:
            known = saved(self.connections)
            folder_text = known["connections"].get(known.get("current"), {}).get("instance")
            folder = Path(folder_text) if folder_text else folder
        return running_instance(folder) if folder is not None else None

    def why_nowhere(self) -> str:
        """Say why nothing is delivered while no service is known."""
        if self.connections is None:
            return f"Your instance in {self.instance} does not run. Start it with 'kinetrum up'."
        return "No service is known here. Start one with 'kinetrum up', or connect to one with 'kinetrum connect URL'."

    def _with_tokens(self, root: Path, url: str, first: str | None) -> list[tuple[str, str | None]]:
        """A token that is refused gives way to what the person has given for the same address since."""
        entry = saved(self.connections)["connections"].get(url, {})
        return [(url, token) for token in _distinct(first, *_tokens_given(root, url), entry.get("token"))]


def _distinct(*tokens: str | None) -> list[str | None]:
    known = list(dict.fromkeys(token for token in tokens if token))
    return [*known] or [None]


def _tokens_given(root: Path, url: str) -> list[str]:
    """List the tokens with which this machine recorded to an address, or read from it, the newest first."""
    tokens: list[tuple[float, str]] = []
    for path in (root / "destinations").glob("*.json"):
        with contextlib.suppress(OSError, ValueError):
            destination = json.loads(path.read_text())
            if destination.get("url") == url and destination.get("token"):
                tokens.append((path.stat().st_mtime, destination["token"]))
    return [token for _, token in sorted(tokens, reverse=True)]


def destination_of(connection: Connection) -> Destination:
    """Return where a run that is recorded now goes."""
    if connection.instance is not None:
        return Destination(None, _given_token(), connection.instance)
    if connection.url is None:
        return Destination(None, _given_token(), instance_folder(), connections_file())
    return Destination(connection.url, connection.token)


def _given_token() -> str | None:
    return os.environ.get("KINETRUM_TOKEN") or None


def keep_destination(root: Path, destination: Destination) -> str:
    """Keep a destination for the sender and return its name; failures are warned of, never raised."""
    text = json.dumps(_as_json(destination))
    # An address and a token had these names from the beginning; a spool may hold records that use them.
    identity = f"{destination.url} {destination.token}" if destination.url is not None else text
    name = hashlib.sha256(identity.encode()).hexdigest()[:16]
    try:
        for number in range(1, 1_000):
            path = root / "destinations" / f"{name}.json"
            if not path.exists():
                _write_private(path, text)
                break
            if _says(path, destination):
                # The newest is the likeliest to be valid.
                os.utime(path)
                break
            # What had this name goes somewhere else since: this is for what is recorded from now on.
            name = hashlib.sha256(f"{identity} {number}".encode()).hexdigest()[:16]
    except OSError as error:
        warnings.warn(f"Kinetrum's spool {root} cannot keep where to deliver to ({error.strerror}).", stacklevel=5)
    return name


def _says(path: Path, destination: Destination) -> bool:
    try:
        return read_destination(path.parent.parent, path.stem) == destination
    except Unavailable:
        return False


def replace_destination(root: Path, name: str, destination: Destination) -> None:
    """Let everything that names a destination go somewhere else from now on."""
    _write_private(root / "destinations" / f"{name}.json", json.dumps(_as_json(destination)))


def read_destination(root: Path, name: str) -> Destination:
    """Read a destination; raises Unavailable where its file is gone or no longer readable."""
    try:
        fields = json.loads((root / "destinations" / f"{name}.json").read_text())
        instance, connections = fields.get("instance"), fields.get("connections")
        if "instance" not in fields and (fields["url"], fields["token"]) == (_ONCE_ASSUMED, None):
            return Destination(None, None, instance_folder(), connections_file())
        return Destination(
            fields["url"],
            fields["token"],
            Path(instance) if instance else None,
            Path(connections) if connections else None,
        )
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise Unavailable(
            f"Where these records go cannot be read any more ({error}); 'kinetrum spool redirect' says it anew."
        ) from None


def _as_json(destination: Destination) -> dict[str, object]:
    return {
        "url": destination.url,
        "token": destination.token,
        "instance": str(destination.instance) if destination.instance else None,
        "connections": str(destination.connections) if destination.connections else None,
    }


def _write_private(path: Path, text: str) -> None:
    make_private_folder(str(path.parent))
    part = path.with_name(f"{path.stem}.{os.getpid()}.part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        file.write(text)
    os.replace(part, path)
