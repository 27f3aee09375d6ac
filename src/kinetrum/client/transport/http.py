"""Calls to the service; problem documents come back as the errors they describe."""

from __future__ import annotations

import warnings
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http import HTTPMethod
from typing import Any
from urllib.parse import quote

import httpx

from kinetrum.client.transport.trust import open_client, why_unreached
from kinetrum.core.base import errors

API = "/api/v1"
BEHIND_HEADER = "Kinetrum-Behind"
_CONNECT_S = 5.0
_LEAST_BODY = 16 * 1024
_KINDS: dict[str, type[errors.KinetrumError]] = {
    "unexpected-occupant": errors.UnexpectedOccupant,
    "conflict": errors.Conflict,
    "invalid-input": errors.InvalidInput,
    "broken-json": errors.InvalidInput,
    "not-found": errors.NotFound,
    "not-signed-in": errors.NotSignedIn,
    "not-allowed": errors.NotAllowed,
    "too-large": errors.TooLarge,
    "damaged": errors.Damaged,
    "too-many-tries": errors.TooManyTries,
    "unavailable": errors.Unavailable,
}


def path_of(*parts: str) -> str:
    """Build a path from parts, each made safe."""
    return "/" + "/".join(quote(part, safe="") for part in parts)


class BodyRefused(errors.Unavailable):
    """Something before the service refuses a body as too large; smaller ones may pass."""


def error_of(response: httpx.Response) -> errors.KinetrumError:
    """Return the error that a problem document describes."""
    try:
        body = response.json()
        kind = str(body["type"]).rpartition(":")[2]
        detail, field, column = str(body["detail"]), body.get("field"), body.get("column")
    except (ValueError, KeyError, TypeError):
        return _of_no_service(response)
    if kind == "over-quota":
        return errors.OverQuota(detail)
    if response.status_code >= 500:
        return errors.Unavailable(detail)
    return _KINDS.get(kind, errors.KinetrumError)(detail, field=field, column=column)


def _of_no_service(response: httpx.Response) -> errors.KinetrumError:
    """Return the error for an answer that no Kinetrum service gave, such as one of a proxy before it."""
    if response.status_code == 413:
        size = response.request.headers.get("Content-Length")
        body = f"a body of {size} bytes" if size else "a body"
        return BodyRefused(
            f"A proxy before {response.url.host} refused {body} as too large (413). Raise its limit: in nginx that is "
            "client_max_body_size."
        )
    return errors.Unavailable(
        f"{response.url.host} answered {response.status_code} and no problem document; is a Kinetrum service there?"
    )


def _warn_of_what_is_behind(response: httpx.Response) -> None:
    behind = response.headers.get(BEHIND_HEADER)
    if behind:
        warnings.warn(
            f"The newest points of {behind} {'run' if behind == '1' else 'runs'} are not in this answer yet: the "
            "service is still bringing them in. Ask again in a moment.",
            stacklevel=4,
        )


class Service:
    """One service as one person; keeps its connections open between calls. Safe in threads."""

    def __init__(
        self,
        url: str,
        token: str | None,
        timeout_s: float = 30.0,
        connect_s: float = _CONNECT_S,
        ca: str | None = None,
    ) -> None:
        self.url = url
        self.token = token
        # The largest body that a proxy on the way takes, as far as is known.
        self.body_limit: int | None = None
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._client = open_client(url + API, httpx.Timeout(timeout_s, connect=connect_s), headers, ca)

    def close(self) -> None:
        """Close the connections."""
        self._client.close()

    def note_body_refused(self, size: int) -> bool:
        """Note that a body of so many bytes was refused: half of it is the limit now. False where that is too small."""
        half = max(_LEAST_BODY, size // 2)
        self.body_limit = min(self.body_limit or half, half)
        return size > _LEAST_BODY

    def call(self, method: str, path: str, **options: Any) -> Any:
        """Call and return the JSON answer, or None where there is none.

        Raises the error that the service describes; Unavailable where it does not answer.
        """
        try:
            response = self._client.request(method, path, **options)
        except httpx.HTTPError as error:
            raise self._unreached(error) from error
        if response.status_code >= 400:
            raise error_of(response)
        _warn_of_what_is_behind(response)
        return response.json() if response.content else None

    def get(self, path: str, **params: object) -> Any:
        """Read something."""
        return self.call("GET", path, params={key: value for key, value in params.items() if value is not None})

    def remove(self, path: str, **params: object) -> Any:
        """Remove something; returns what the service answers, None where that is nothing."""
        return self.call(
            HTTPMethod.DELETE, path, params={key: value for key, value in params.items() if value is not None}
        )

    @contextmanager
    def stream(
        self,
        path: str,
        params: Mapping[str, Any] | None = None,
        headers: dict[str, str] | None = None,
        method: str = "GET",
        json: object = None,
        patience_s: float | None = None,
    ) -> Iterator[httpx.Response]:
        """Open a download; `patience_s` is how long its next piece may take where that is longer than a request."""
        timeout = httpx.Timeout(patience_s, connect=_CONNECT_S) if patience_s else httpx.USE_CLIENT_DEFAULT
        try:
            with self._client.stream(
                method, path, params=params, headers=headers, json=json, timeout=timeout
            ) as response:
                if response.status_code >= 400:
                    response.read()
                    raise error_of(response)
                _warn_of_what_is_behind(response)
                yield response
        except httpx.HTTPError as error:
            raise self._unreached(error) from error

    def _unreached(self, error: Exception) -> errors.Unavailable:
        return errors.Unavailable(why_unreached(self.url, error))
