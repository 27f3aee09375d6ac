"""What comes before a body is read: who sends it, and how much of it there may be.

A body is costly by the number of values in it rather than by its bytes: ten megabytes of empty lists hold a service up
for seconds, a text of ten megabytes does not. So each route has a bound on both, and whoever has no account is answered
before the first byte of a body is read.
"""

from __future__ import annotations

import asyncio
import re
import time
from dataclasses import dataclass
from typing import NoReturn

from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kinetrum.core.base.errors import KinetrumError
from kinetrum.core.points.codec import BATCH_BYTE_LIMIT
from kinetrum.service.guard.large_bodies import read_body
from kinetrum.service.http.access import SAFE_METHODS, signed_in
from kinetrum.service.http.problems import of_error, problem

_API = "/api/"
# Whole paths, not their ends: an experiment may be called "plots" or "imports".
_VERSION = r"/api/v\d+"
_PROJECT = rf"{_VERSION}/projects/[^/]+"
_RUN = rf"{_PROJECT}/experiments/[^/]+/runs/[^/]+"
# The only acts that take no account: signing in to one, and choosing its password by a link.
_SIGN_IN = re.compile(rf"{_VERSION}/(?:session|account-links/[^/]+)")
_STREAMED = re.compile(rf"{_PROJECT}/(?:blobs(?:/[0-9a-f]{{64}})?|imports)|{_VERSION}/storage/blobs/[0-9a-f]{{64}}")
_TEXTS = re.compile(rb'"[^"\\]*(?:\\.[^"\\]*)*"?', re.S)
_KIB, _MIB = 1024, 1024 * 1024
# What of large bodies has arrived is in memory until they are read, and takes no more than this together. Small ones
# are not counted: whoever fills the room with large ones stops nobody else's.
_TOGETHER, _UNCOUNTED = 160 * _MIB, _MIB
# A body arrives at 64 KiB a second after the first minute, or is given up.
_PATIENCE_S, _BYTES_A_SECOND = 60.0, 64 * _KIB
# How long a refusal of a large body waits.
_REST_S = 0.2


@dataclass(frozen=True)
class Bound:
    """How much a body may hold: bytes, and values (members of objects and lists, nested ones too)."""

    size: int
    values: int


_DEFAULT = Bound(_MIB, 20_000)
# What one call of the client records has up to 16 MiB; a manifest lists up to 100,000 files with long paths; a plot has
# up to 40 columns of 100,000 values; points come as columns of numbers, mostly in their binary form.
_BOUNDS: tuple[tuple[re.Pattern[str], Bound], ...] = (
    (_SIGN_IN, Bound(16 * _KIB, 100)),
    (re.compile(rf"{_RUN}/points"), Bound(BATCH_BYTE_LIMIT, 1_000_000)),
    (re.compile(rf"{_RUN}/(?:used|generated)|{_PROJECT}/artifacts/[^/]+/versions"), Bound(128 * _MIB, 1_000_000)),
    (re.compile(rf"{_RUN}/plots"), Bound(128 * _MIB, 4_200_000)),
    (
        re.compile(rf"{_RUN}(?:/(?:parameters|results|output|surroundings|resources))?"),
        Bound(32 * _MIB, 400_000),
    ),
)


def bound_of(path: str) -> Bound:
    """Return the bound on bodies that are sent to a path."""
    return next((bound for pattern, bound in _BOUNDS if pattern.fullmatch(path)), _DEFAULT)


def count_values(body: bytes) -> int:
    """Count the members of all objects and lists in a JSON text, never too few, leaving out what stands in strings."""
    outside = _TEXTS.sub(b"", body)
    return outside.count(b",") + outside.count(b"[") + outside.count(b"{")


class _TooMany(Exception):
    """The body has more values than its route takes."""


class _Refused(Exception):
    """Stops whoever is reading the body."""


class GuardedBodies:
    """Asks for credentials before a body is read, and refuses bodies over the bound of their route with 413.

    Uploads of bytes stream to disk and are bounded by its room.
    """

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self.on_their_way = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one connection."""
        if scope["type"] != "http" or scope["method"] in SAFE_METHODS or not scope["path"].startswith(_API):
            await self.app(scope, receive, send)
            return
        if scope["method"] != "POST" or not _SIGN_IN.fullmatch(scope["path"]):
            request = Request(scope)
            try:
                request.state.actor = await run_in_threadpool(signed_in, request)
            except KinetrumError as error:
                await _rest_before_refusing(Headers(scope=scope).get("content-length", "0"))
                await of_error(error)(scope, receive, send)
                return
        if _STREAMED.fullmatch(scope["path"]):
            await self.app(scope, receive, send)
            return
        body = _Body(self, scope, receive, send)
        try:
            await body.serve()
        finally:
            self.on_their_way -= body.taken


async def _rest_before_refusing(length: str) -> None:
    """Wait a moment where a large body is refused unread: whoever sends them one after the other is slowed by it."""
    if not length.isdigit() or int(length) > _UNCOUNTED:
        await asyncio.sleep(_REST_S)


class _Body:
    """One body while it is read."""

    def __init__(self, guard: GuardedBodies, scope: Scope, receive: Receive, send: Send) -> None:
        self.guard, self.scope, self.receive, self.send = guard, scope, receive, send
        self.taken = 0
        self.bound = bound_of(scope["path"])
        headers = Headers(scope=scope)
        self.length = headers.get("content-length", "0")
        # Of several headers of that name whoever reads the body may go by another than the first.
        self.is_json = any("json" in kind.lower() for kind in headers.getlist("content-type"))
        self.began = time.monotonic()
        self.size = self.signs = 0
        self.look_at = self.bound.values
        self.pieces: list[bytes] = []
        self.refusal: JSONResponse | None = None
        self.is_answered = False

    async def serve(self) -> None:
        """Let the application read it, as far as its bound."""
        try:
            if not self.length.isdigit() or int(self.length) > self.bound.size:
                await _rest_before_refusing(self.length)
                self._refuse(413, "too-large", f"The body has over {self.bound.size} bytes; send it in parts.")
            await self.guard.app(self.scope, self._counted, self._noted)
        except _Refused:
            await self._answer()

    async def _counted(self) -> Message:
        message = await self._next()
        piece = message.get("body", b"")
        self.size += len(piece)
        if self.size > self.bound.size:
            self._refuse(413, "too-large", f"The body has over {self.bound.size} bytes; send it in parts.")
        self._take_room()
        if self.is_json and piece:
            self.pieces.append(piece)
            self.signs += piece.count(b",") + piece.count(b"[") + piece.count(b"{")
            if self.signs > self.look_at:
                await self._look_closer()
        return message

    async def _next(self) -> Message:
        left = self.began + _PATIENCE_S + self.size / _BYTES_A_SECOND - time.monotonic()
        try:
            async with asyncio.timeout(max(0.0, left)):
                return await self.receive()
        except TimeoutError:
            self._refuse(408, "unavailable", "The rest of the body did not arrive in time; send it again.")

    def _take_room(self) -> None:
        """Count what arrived beyond a small body; refuse it for now where others fill the room."""
        fresh = max(0, self.size - _UNCOUNTED) - self.taken
        self.taken += fresh
        self.guard.on_their_way += fresh
        if fresh and self.guard.on_their_way > _TOGETHER:
            why = "Too many large bodies are on their way just now; try again in a moment."
            self._refuse(503, "unavailable", why, {"Retry-After": "2"})

    async def _look_closer(self) -> None:
        """Count exactly, since commas within strings are no values; next time only when there is twice as much."""
        try:
            await read_body(self._check_count, b"".join(self.pieces))
        except _TooMany:
            self._refuse(413, "too-large", f"The body has over {self.bound.values:,} values; send it in parts.")
        self.look_at = self.signs + max(self.bound.values, self.signs)

    def _check_count(self, body: bytes) -> None:
        if count_values(body) > self.bound.values:
            raise _TooMany

    def _refuse(self, status: int, kind: str, why: str, headers: dict[str, str] | None = None) -> NoReturn:
        self.refusal = problem(status, kind, why, "body" if status == 413 else None, headers)
        raise _Refused

    async def _noted(self, message: Message) -> None:
        # Readers of the body answer the exception in their own way; the refusal replaces that answer.
        if self.refusal is None:
            await self.send(message)
        else:
            await self._answer()

    async def _answer(self) -> None:
        if not self.is_answered and self.refusal is not None:
            self.is_answered = True
            await self.refusal(self.scope, self.receive, self.send)
