"""Wrong passwords, counted by name and by address, so that guesses are slowed on every process of the service."""

from __future__ import annotations

import hashlib
from datetime import timedelta

from kinetrum.core.access.pace import FORGOTTEN_S
from kinetrum.storage.db.clock import now
from kinetrum.storage.tables.people import SignInFailure


def _digest(what: str) -> bytes:
    return hashlib.sha256(what.encode()).digest()


def failures_of(what: str) -> tuple[int, float]:
    """Return how many tries were wrong, and the seconds since the last one; (0, 0) where there was none."""
    row = SignInFailure.get_or_none(SignInFailure.of_sha256 == _digest(what))
    return (row.failures, (now() - row.last_at).total_seconds()) if row else (0, 0.0)


def count_failure(what: str) -> None:
    """Count a wrong try; after a while without any, counting begins anew."""
    at = now()
    SignInFailure.delete().where(SignInFailure.last_at < at - timedelta(seconds=FORGOTTEN_S)).execute()
    SignInFailure.insert(of_sha256=_digest(what), failures=1, last_at=at).on_conflict(
        update={SignInFailure.failures: SignInFailure.failures + 1, SignInFailure.last_at: at}
    ).execute()


def forget_failures(what: str) -> None:
    """Forget the wrong tries, after a right one."""
    SignInFailure.delete().where(SignInFailure.of_sha256 == _digest(what)).execute()
