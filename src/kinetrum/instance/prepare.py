"""Make a database ready for the service: migrations, rights, the first account."""

from __future__ import annotations

import getpass
import re
import secrets
from pathlib import Path

from kinetrum.actions.people import accounts, signing_in, tokens
from kinetrum.actions.people.tokens import NewToken
from kinetrum.core.access.scopes import Scope
from kinetrum.instance.settings import write_private
from kinetrum.storage.db.database import DatabaseAddress, connect, disconnect
from kinetrum.storage.db.migrate import grant, migrate


def prepare(owner: DatabaseAddress, service_user: str | None, password_file: Path, token_file: Path) -> int:
    """Migrate, give the service's account its rights, make the first account; returns statements applied.

    The first account's random password and a client token for it are written to files that only
    their owner can read.
    """
    connect(owner, connections=4)
    try:
        applied = migrate()
        if service_user and applied:
            grant(owner.name, service_user)
        _first_account(password_file, token_file)
    finally:
        disconnect()
    return applied


def _first_account(password_file: Path, token_file: Path) -> None:
    name = re.sub(r"[^a-z0-9._-]", "", getpass.getuser().lower()) or "owner"
    name = name if name[0].isalpha() else "owner"
    password = secrets.token_urlsafe(15)
    if accounts.make_first_person(name, name.capitalize(), password):
        write_private(password_file, f"name: {name}\npassword: {password}\n")
        opened = signing_in.sign_in(name, password, "first start")
        # As good as the password beside it, and for as long: it is this machine's own.
        made = tokens.make_token(opened.actor, NewToken("this-machine", scopes=list(Scope), days=None))
        write_private(token_file, made.secret + "\n")
        signing_in.sign_out(opened.secret)
