"""Where an instance keeps what: one folder, readable by its owner only."""

from __future__ import annotations

import json
import os
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kinetrum.core.access.sealing_keys import new_key
from kinetrum.places import instance_folder

DEFAULT_PORT = 7373


@dataclass(frozen=True)
class Home:
    """The folder of an instance and the files in it."""

    folder: Path

    @property
    def database(self) -> Path:
        """Data folder of MariaDB."""
        return self.folder / "database"

    @property
    def store(self) -> Path:
        """Bytes of artifacts."""
        return self.folder / "store"

    @property
    def log(self) -> Path:
        """Output of the keeper, the service and MariaDB."""
        return self.folder / "instance.log"

    @property
    def state(self) -> Path:
        """Address and process of the running instance."""
        return self.folder / "state.json"

    @property
    def lock(self) -> Path:
        """Held as long as anything of the instance runs."""
        return self.folder / "lock"

    @property
    def first_password(self) -> Path:
        """Name and password of the first account."""
        return self.folder / "first-account.txt"

    @property
    def token(self) -> Path:
        """Client token of the first account, for programs of the same person on this machine."""
        return self.folder / "token"

    @property
    def secrets_file(self) -> Path:
        """Passwords of the database accounts."""
        return self.folder / "secrets.json"

    def prepare(self) -> None:
        """Make the folders, closed to others."""
        for folder in (self.folder, self.store):
            folder.mkdir(parents=True, exist_ok=True)
            folder.chmod(0o700)
        # Whatever is made here is its owner's alone, also where the folder is opened to others later.
        if not self.log.exists():
            self.log.touch(0o600)
        self.log.chmod(0o600)

    def secrets_key(self) -> str:
        """Return the key with which the instance seals secrets, made when first asked for."""
        return self.secret("secrets_key", new_key)

    def secret(self, name: str, make: Callable[[], str] = lambda: secrets.token_urlsafe(24)) -> str:
        """Return a stored random secret, made when first asked for."""
        known: dict[str, str] = json.loads(self.secrets_file.read_text()) if self.secrets_file.exists() else {}
        if name not in known:
            known[name] = make()
            write_private(self.secrets_file, json.dumps(known))
        return known[name]

    def read_state(self) -> dict[str, Any] | None:
        """Return what the running instance wrote about itself."""
        try:
            state: dict[str, Any] = json.loads(self.state.read_text())
        except (FileNotFoundError, ValueError):
            return None
        return state


def write_private(path: Path, text: str) -> None:
    """Write a file that only its owner can read, whole or not at all."""
    part = path.with_name(path.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        file.write(text)
    os.replace(part, path)


def default_home() -> Home:
    """Return the instance folder of this person: KINETRUM_HOME, else under the data folder."""
    return Home(instance_folder())
