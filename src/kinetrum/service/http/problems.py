"""The one place where errors become HTTP answers: RFC 9457 problem documents, never a stack trace."""

from __future__ import annotations

import logging
import math
from collections.abc import Sequence
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from kinetrum.core.base import errors

log = logging.getLogger("kinetrum.service")
_SHOWN_ERRORS = 8

_STATUS: list[tuple[type[errors.KinetrumError], int, str]] = [
    (errors.UnexpectedOccupant, 409, "unexpected-occupant"),
    (errors.Conflict, 409, "conflict"),
    (errors.InvalidInput, 422, "invalid-input"),
    (errors.NotFound, 404, "not-found"),
    (errors.NotSignedIn, 401, "not-signed-in"),
    (errors.NotAllowed, 403, "not-allowed"),
    (errors.TooLarge, 413, "too-large"),
    (errors.Damaged, 422, "damaged"),
    (errors.TooManyTries, 429, "too-many-tries"),
    (errors.OverQuota, 507, "over-quota"),
    (errors.Unavailable, 503, "unavailable"),
]


def problem(
    status: int,
    kind: str,
    detail: str,
    field: str | None = None,
    headers: dict[str, str] | None = None,
    column: int | None = None,
) -> JSONResponse:
    """Build one problem document."""
    body = {
        "type": f"urn:kinetrum:problem:{kind}",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
        "field": field,
        "column": column,
    }
    return JSONResponse(body, status, media_type="application/problem+json", headers=headers)


def of_error(error: errors.KinetrumError) -> JSONResponse:
    """Answer one of our own errors."""
    for kind, status, name in _STATUS:
        if isinstance(error, kind):
            headers = {401: {"WWW-Authenticate": 'Bearer realm="kinetrum"'}, 503: {"Retry-After": "2"}}.get(status)
            if isinstance(error, errors.TooManyTries):
                headers = {"Retry-After": str(math.ceil(error.retry_after_s))}
            return problem(status, name, str(error), error.field, headers, error.column)
    return problem(500, "internal", "Something went wrong inside the service; its log says what.")


class BodyInvalid(HTTPException):
    """A body that does not fit its route's type; `found` are the errors that Pydantic lists."""

    def __init__(self, found: Sequence[Any]) -> None:
        super().__init__(422)
        self.found = found


def _validation(found: Sequence[Any]) -> JSONResponse:
    first, *others = found
    field = _field_of(first)
    if first["type"] == "json_invalid":
        return problem(400, "broken-json", f"The body is not JSON: {first.get('ctx', {}).get('error', 'broken')}.")
    shown = [f"{_field_of(one) or 'The body'}: {one['msg']}." for one in (first, *others[: _SHOWN_ERRORS - 1])]
    more = len(others) + 1 - len(shown)
    if more:
        shown.append(f"{more} more {'is' if more == 1 else 'are'} wrong.")
    return problem(422, "invalid-input", " ".join(shown), field)


def _field_of(error: dict[str, Any]) -> str | None:
    """Return where in the request an error is: `stages.0.name`; None for the body as a whole."""
    return ".".join(str(part) for part in error["loc"] if part not in {"body", "query", "path", "header"}) or None


# Where exporters of OpenTelemetry send by default.
_TELEMETRY = {"/v1/metrics", "/v1/traces", "/v1/logs"}
_NO_TELEMETRY = (
    "OpenTelemetry's protocol is not taken here, and nothing was kept. Points of metrics are posted to "
    "/api/v1/projects/PROJECT/experiments/EXPERIMENT/runs/ID/points, as /api/v1/openapi.json tells."
)


def install(app: FastAPI) -> None:
    """Hang the handlers into the application."""

    @app.exception_handler(errors.KinetrumError)
    async def own(request: Request, error: errors.KinetrumError) -> JSONResponse:
        return of_error(error)

    @app.exception_handler(RequestValidationError)
    async def validation(request: Request, error: RequestValidationError) -> JSONResponse:
        return _validation(error.errors())

    @app.exception_handler(BodyInvalid)
    async def body(request: Request, error: BodyInvalid) -> JSONResponse:
        return _validation(error.found)

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
        if error.status_code in {404, 405} and request.url.path in _TELEMETRY:
            return problem(404, "not-found", _NO_TELEMETRY)
        detail = {
            404: f"Nothing is at {request.url.path}.",
            405: f"{request.method} is not understood at {request.url.path}.",
        }.get(error.status_code, str(error.detail))
        kind = {404: "not-found", 405: "method"}.get(error.status_code, "http")
        return problem(error.status_code, kind, detail, headers=dict(error.headers or {}))

    @app.exception_handler(Exception)
    async def unexpected(request: Request, error: Exception) -> JSONResponse:
        log.error("unexpected error at %s %s", request.method, request.url.path, exc_info=error)
        return problem(500, "internal", "Something went wrong inside the service; its log says what.")
