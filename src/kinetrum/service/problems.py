"""The one place where errors become HTTP answers: RFC 9457 problem documents, never a stack trace."""

from __future__ import annotations

import logging
from http import HTTPStatus

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from kinetrum.core import errors

log = logging.getLogger("kinetrum.service")

_STATUS: list[tuple[type[errors.KinetrumError], int, str]] = [
    (errors.UnexpectedOccupant, 409, "unexpected-occupant"),
    (errors.Conflict, 409, "conflict"),
    (errors.InvalidInput, 422, "invalid-input"),
    (errors.NotFound, 404, "not-found"),
    (errors.NotSignedIn, 401, "not-signed-in"),
    (errors.NotAllowed, 403, "not-allowed"),
    (errors.TooLarge, 413, "too-large"),
    (errors.Damaged, 422, "damaged"),
    (errors.Unavailable, 503, "unavailable"),
]


def problem(
    status: int, kind: str, detail: str, field: str | None = None, headers: dict[str, str] | None = None,
    column: int | None = None,
) -> JSONResponse:  # fmt: skip
    """Build one problem document."""
    body = {"type": f"urn:kinetrum:problem:{kind}", "title": HTTPStatus(status).phrase, "status": status,
            "detail": detail, "field": field, "column": column}  # fmt: skip
    return JSONResponse(body, status, media_type="application/problem+json", headers=headers)


def of_error(error: errors.KinetrumError) -> JSONResponse:
    """Answer one of our own errors."""
    for kind, status, name in _STATUS:
        if isinstance(error, kind):
            headers = {401: {"WWW-Authenticate": 'Bearer realm="kinetrum"'}, 503: {"Retry-After": "2"}}.get(status)
            return problem(status, name, str(error), error.field, headers, error.column)
    return problem(500, "internal", "Something went wrong inside the service; its log says what.")


def _validation(error: RequestValidationError) -> JSONResponse:
    first = error.errors()[0]
    where = [str(part) for part in first["loc"] if part not in {"body", "query", "path", "header"}]
    field = ".".join(where) or None
    if first["type"] == "json_invalid":
        reason = first.get("ctx", {}).get("error", "broken")
        return problem(400, "broken-json", f"The body is no JSON: {reason} near character {where[0] if where else 0}.")
    more = len(error.errors()) - 1
    tail = f" ({more} more of this kind.)" if more else ""
    return problem(422, "invalid-input", f"{field or 'The body'}: {first['msg']}.{tail}", field)


def install(app: FastAPI) -> None:
    """Hang the handlers into the application."""

    @app.exception_handler(errors.KinetrumError)
    async def own(request: Request, error: errors.KinetrumError) -> JSONResponse:
        return of_error(error)

    @app.exception_handler(RequestValidationError)
    async def validation(request: Request, error: RequestValidationError) -> JSONResponse:
        return _validation(error)

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
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
