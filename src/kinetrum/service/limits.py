"""The bound on request bodies, kept before anything reads them into memory."""

from __future__ import annotations

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kinetrum.core.points.codec import BATCH_BYTE_LIMIT
from kinetrum.service.problems import problem

BODY_LIMIT = BATCH_BYTE_LIMIT


class _OverLimit(Exception):
    """Stops whoever is reading the body."""


class BodyLimit:
    """Refuses bodies over the limit with 413. Uploads of blobs stream to disk and are bounded by its room."""

    def __init__(self, app: ASGIApp, limit: int = BODY_LIMIT) -> None:
        self.app, self.limit = app, limit

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one connection."""
        if scope["type"] != "http" or "/blobs/" in scope["path"]:
            await self.app(scope, receive, send)
            return
        refusal = problem(413, "too-large", f"The body has over {self.limit} bytes; send it in parts.", "body")
        length = dict(scope["headers"]).get(b"content-length", b"0")
        if not length.isdigit() or int(length) > self.limit:
            await refusal(scope, receive, send)
            return
        seen, refused = 0, False

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > self.limit:
                raise _OverLimit
            return message

        async def noted(message: Message) -> None:
            # Readers of the body answer the exception in their own way; the refusal replaces that answer.
            nonlocal refused
            if seen <= self.limit:
                await send(message)
            elif not refused:
                refused = True
                await refusal(scope, receive, send)

        try:
            await self.app(scope, counted, noted)
        except _OverLimit:
            if not refused:
                await refusal(scope, receive, send)
