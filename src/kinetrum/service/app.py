"""The assembly of the service."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from importlib.metadata import version
from pathlib import Path
from typing import Any

from fastapi import Depends, FastAPI
from fastapi.routing import APIRoute

from kinetrum.core.access.sealing import Seal
from kinetrum.service.background import Chores
from kinetrum.service.guard.bodies import GuardedBodies
from kinetrum.service.guard.headers import Hardened
from kinetrum.service.guard.sub_path import BelowPath
from kinetrum.service.http import console_files, problems
from kinetrum.service.http.freshness import act_up_to_date, read_up_to_date
from kinetrum.service.http.provider import Provider
from kinetrum.service.http.public_address import public_path
from kinetrum.service.live.broker import Broker
from kinetrum.service.routes.archives import archive_routes, export_routes
from kinetrum.service.routes.compare import comparison_routes, plot_routes
from kinetrum.service.routes.data import (
    artifact_routes,
    blob_routes,
    disk_routes,
    file_routes,
    lineage_routes,
    media_routes,
)
from kinetrum.service.routes.live import health_routes, live_routes
from kinetrum.service.routes.people import (
    account_routes,
    elsewhere_routes,
    journal_routes,
    project_routes,
    secret_routes,
    today_routes,
    token_routes,
)
from kinetrum.service.routes.registry import model_routes, version_routes
from kinetrum.service.routes.runs import description_routes, environment_routes, run_routes
from kinetrum.service.routes.search import search_routes, view_routes
from kinetrum.service.settings import ProviderSettings
from kinetrum.storage.data.blobs import BlobStore
from kinetrum.storage.db.database import disconnect
from kinetrum.wire.base import Problem
from kinetrum.wire.runs import PointBatch

API = "/api/v1"
_PROBLEM: dict[str, Any] = {
    "description": "A problem document (RFC 9457).",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
}
_RESPONSES: dict[int | str, dict[str, Any]] = {
    "4XX": {"model": Problem, "description": "What was wrong with the request (RFC 9457)."},
    422: {"model": Problem, "description": "What was wrong with the input (RFC 9457)."},
}


def _operation_id(route: APIRoute) -> str:
    return route.name


# How a request says who asks; a session also sends its CSRF token with everything that changes something.
_SECURITY = {
    "token": {"type": "http", "scheme": "bearer", "description": "A client token."},
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": "kinetrum_session_PORT",
        "description": "The console's; by TLS __Host-kinetrum_session_PORT.",
    },
}
_OPEN = frozenset(
    f"{API}/{path}"
    for path in (
        "health",
        "session",
        "account-links/{secret}",
        "sign-in",
        "sign-in/elsewhere",
        "sign-in/elsewhere/return",
    )
)


_READS, _ACTS = [Depends(read_up_to_date)], [Depends(act_up_to_date)]
# Answers are made of what was recorded, and so are some acts, so that comes in first.
_ROUTES: tuple[tuple[Any, list[Any]], ...] = (
    (health_routes, []),
    (account_routes, []),
    (elsewhere_routes, []),
    (token_routes, []),
    (secret_routes, []),
    (project_routes, []),
    (journal_routes, []),
    (export_routes, _READS),
    (search_routes, _READS),
    (comparison_routes, _ACTS),
    (run_routes, _READS),
    (description_routes, _READS),
    (environment_routes, _READS),
    (blob_routes, []),
    (artifact_routes, _ACTS),
    (file_routes, _READS),
    (lineage_routes, _READS),
    (plot_routes, _READS),
    (media_routes, _READS),
    (disk_routes, _ACTS),
    (archive_routes, _READS),
    (model_routes, _ACTS),
    (version_routes, _ACTS),
    (live_routes, []),
    (today_routes, _READS),
    (view_routes, []),
)


def make_app(
    blob_folder: Path,
    public_address: str | None = None,
    provider: ProviderSettings | None = None,
    passwords: bool = True,
    seal: Seal | None = None,
) -> FastAPI:
    """Build the application; the database must be connected before it serves.

    `public_address` is where people reach it, None where that is where it listens. `provider` is at whom people sign
    in, `passwords` whether they can do so with a password here. `seal` seals secrets; None: none are kept.
    """
    blobs = BlobStore(blob_folder)

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        chores = Chores(blobs, seal)
        chores.start()
        app.state.broker.start()
        yield
        await app.state.broker.stop()
        chores.stop()
        disconnect()

    app = FastAPI(
        title="Kinetrum",
        version=version("kinetrum"),
        lifespan=life,
        openapi_url=f"{API}/openapi.json",
        docs_url=None,
        redoc_url=None,
        generate_unique_id_function=_operation_id,
        responses=_RESPONSES,
        description="Record training runs, compare them, version models and promote them.",
    )
    app.state.blobs = blobs
    app.state.public_address = public_address
    app.state.provider = Provider(provider) if provider else None
    app.state.passwords = passwords
    app.state.seal = seal
    app.state.mail = None
    app.state.broker = Broker()
    problems.install(app)
    for module, first in _ROUTES:
        app.include_router(module.router, prefix=API, dependencies=first)
    console_files.install(app)
    app.add_middleware(GuardedBodies)
    app.add_middleware(Hardened)
    if below := public_path(app):
        app.add_middleware(BelowPath, path=below)

    _tell_the_truth(app)
    return app


def _say_what_is_always_there(schema: dict[str, Any]) -> None:
    """Mark every field of an answer as required: answers are whole, also where a record has defaults."""
    types = schema["components"]["schemas"]
    statuses = {
        name
        for operations in schema["paths"].values()
        for operation in operations.values()
        for name in _types_in(operation.get("requestBody", {}))
    } | {"PointBatch"}
    while more := {inner for name in statuses for inner in _types_in(types[name])} - statuses:
        statuses |= more
    for name, described in types.items():
        if name not in statuses and "properties" in described:
            described["required"] = list(described["properties"])


def _types_in(part: Any) -> set[str]:
    if isinstance(part, list):
        return set().union(*map(_types_in, part))
    if not isinstance(part, dict):
        return set()
    named = {part["$ref"].rpartition("/")[2]} if isinstance(part.get("$ref"), str) else set()
    return named.union(*map(_types_in, part.values()))


def _tell_the_truth(app: FastAPI) -> None:
    """Add to the OpenAPI document what routes cannot say: the media type of errors, the types of raw bodies."""
    plain = app.openapi

    def truthful() -> dict[str, Any]:
        schema = plain()
        batch = PointBatch.model_json_schema(ref_template="#/components/schemas/{model}")
        schema["components"]["schemas"] |= batch.pop("$defs") | {"PointBatch": batch}
        schema["components"]["securitySchemes"] = _SECURITY
        _say_what_is_always_there(schema)
        for path, operations in schema["paths"].items():
            for operation in operations.values():
                if path not in _OPEN:
                    operation["security"] = [{name: []} for name in _SECURITY]
                for status in ("4XX", "422"):
                    if status in operation["responses"]:
                        operation["responses"][status] = _PROBLEM
        return schema

    app.openapi = truthful  # type: ignore[method-assign]
