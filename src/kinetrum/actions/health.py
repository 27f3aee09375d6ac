"""Whether the records can be reached."""

from __future__ import annotations

from kinetrum.storage.db.database import ping, transaction


@transaction
def check_database() -> None:
    """Ask the database for something small; raises Unavailable where it does not answer."""
    ping()
