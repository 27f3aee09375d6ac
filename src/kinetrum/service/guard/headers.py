"""Headers that every answer bears."""

from __future__ import annotations

from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kinetrum.service.http.freshness import BEHIND_HEADER


class Hardened:
    """Adds the headers as the answer begins, and touches nothing else of it.

    Deliberately no middleware that passes bodies on: such a one ends an answer properly whose body broke off, and what
    was cut short would look whole.
    """

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one connection."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return

        async def hardened(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                headers.setdefault("X-Content-Type-Options", "nosniff")
                headers.setdefault("Referrer-Policy", "same-origin")
                if scope["scheme"] == "https":
                    headers.setdefault("Strict-Transport-Security", "max-age=31536000")
                if scope["path"].startswith("/api/"):
                    headers.setdefault("Cache-Control", "no-store")
                    # Nothing of the interface is a page; where one is opened as such, it does nothing.
                    headers.setdefault("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'; sandbox")
                if behind := scope.get("state", {}).get("behind"):
                    headers[BEHIND_HEADER] = str(behind)
            await send(message)

        await self.app(scope, receive, hardened)
