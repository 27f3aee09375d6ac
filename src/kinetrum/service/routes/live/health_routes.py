"""Whether the service is well."""

from __future__ import annotations

from kinetrum.actions import health
from kinetrum.service.http.routers import make_router
from kinetrum.wire.base import Out

router = make_router(tags=["health"])


class Health(Out):
    """The service answers and so does its database."""

    status: str
    version: str


@router.get("/health")
def read_health() -> Health:
    """Answer once the database does."""
    health.check_database()
    from importlib.metadata import version

    return Health(status="ready", version=version("kinetrum"))
