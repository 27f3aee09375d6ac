"""The bound on request bodies, kept before anything reads them into memory."""

from __future__ import annotations

import re

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kinetrum.core.points.codec import BATCH_BYTE_LIMIT
from kinetrum.service.http.problems import problem

BODY_LIMIT = BATCH_BYTE_LIMIT
# The list of 100,000 files with long paths.
MANIFEST_LIMIT = 128 * 1024 * 1024
_STREAMED = re.compile(r"/projects/[^/]+/(?:blobs(?:/[0-9a-f]{64})?|imports)\Z")
_MANIFEST = re.compile(r"/(?:used|generated|versions|plots)\Z")


class _OverLimit(Exception):
    """Stops whoever is reading the body."""


class BodyLimit:
    """Refuses bodies over the limit with 413. Uploads of bytes stream to disk and are bounded by its room."""

    def __init__(self, app: ASGIApp, limit: int = BODY_LIMIT) -> None:
        self.app, self.limit = app, limit

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one connection."""
        if scope["type"] != "http" or _STREAMED.search(scope["path"]):
            await self.app(scope, receive, send)
            return
        limit = MANIFEST_LIMIT if _MANIFEST.search(scope["path"]) else self.limit
        refusal = problem(413, "too-large", f"The body has over {limit} bytes; send it in parts.", "body")
        length = dict(scope["headers"]).get(b"content-length", b"0")
        if not length.isdigit() or int(length) > limit:
            await refusal(scope, receive, send)
            return
        seen, refused = 0, False

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > limit:
                raise _OverLimit
            return message

        async def noted(message: Message) -> None:
            # Readers of the body answer the exception in their own way; the refusal replaces that answer.
            nonlocal refused
            if seen <= limit:
                await send(message)
            elif not refused:
                refused = True
                await refusal(scope, receive, send)

        try:
            await self.app(scope, counted, noted)
        except _OverLimit:
            if not refused:
                await refusal(scope, receive, send)
