"""The service against a configured database: `python -m kinetrum.instance.serve`.

Migrates first. KINETRUM_DATABASE_OWNER may name an account that is allowed to define tables; without it
KINETRUM_DATABASE is used for that too. The first account's password and token are written
beside the store, as STORE-first-account.txt and STORE-token.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from kinetrum.core.base.errors import KinetrumError
from kinetrum.instance.prepare import prepare
from kinetrum.storage.db.database import parse_address


def account_files(store: Path) -> tuple[Path, Path]:
    """Return where the first account's password and token are written.

    Beside the store, not in it: whoever copies the bytes of artifacts away does not take an account along.
    """
    place = store.resolve()
    return place.with_name(f"{place.name}-first-account.txt"), place.with_name(f"{place.name}-token")


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
        prepare(owner, other, *account_files(store))
    except KinetrumError as error:
        raise SystemExit(f"kinetrum serve: {error}") from None
    os.execv(sys.executable, [sys.executable, "-m", "kinetrum.service.main"])


if __name__ == "__main__":
    main()
