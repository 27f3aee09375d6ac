"""The service against a configured database: `python -m kinetrum.instance.serve`.

Migrates first. KINETRUM_DATABASE_OWNER may name an account that is allowed to define tables; without it
KINETRUM_DATABASE is used for that too. The first account's password is written beside the store.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from kinetrum.core.errors import KinetrumError
from kinetrum.instance.prepare import prepare
from kinetrum.storage.database import parse_address


def main() -> None:
    """Prepare the database and become the service."""
    try:
        service = parse_address(os.environ.get("KINETRUM_DATABASE", ""))
        owner = parse_address(os.environ.get("KINETRUM_DATABASE_OWNER", os.environ.get("KINETRUM_DATABASE", "")))
        store = Path(os.environ.get("KINETRUM_STORE", ""))
        if not os.environ.get("KINETRUM_STORE"):
            raise SystemExit("kinetrum serve: give --store, a folder for the bytes of artifacts.")
        store.mkdir(parents=True, exist_ok=True, mode=0o700)
        other = service.user if service.user != owner.user else None
        prepare(owner, other, store / "first-account.txt", store / "token")
    except KinetrumError as error:
        raise SystemExit(f"kinetrum serve: {error}") from None
    os.execv(sys.executable, [sys.executable, "-m", "kinetrum.service.main"])


if __name__ == "__main__":
    main()
