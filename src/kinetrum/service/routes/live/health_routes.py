"""Whether the service is well."""

from __future__ import annotations

import anyio
import anyio.to_thread

from kinetrum.actions import health
from kinetrum.service.http.routers import make_router
from kinetrum.wire.base import Out

router = make_router(tags=["health"])


class Health(Out):
    """The service answers and so does its database."""

    status: str
    version: str


# Whatever else keeps threads busy, these are kept for this question.
_threads = anyio.CapacityLimiter(2)


@router.get("/health")
async def read_health() -> Health:
    """Answer once the database does."""
    await anyio.to_thread.run_sync(health.check_database, limiter=_threads)
    from importlib.metadata import version

    return Health(status="ready", version=version("kinetrum"))
