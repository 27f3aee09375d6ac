"""Below a path of a host that other tools share: requests come with that path before theirs, or already without."""

from __future__ import annotations

from starlette.types import ASGIApp, Receive, Scope, Send


class BelowPath:
    """Takes the path at which people reach the service off each request; a proxy may have done so already.

    Parameters
    ----------
    app:
        What is served.
    path:
        The path of the public address, such as `/kinetrum`: it begins with a slash and has none at its end.
    """

    def __init__(self, app: ASGIApp, path: str) -> None:
        self.app = app
        self.path = path
        self.raw = path.encode()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one connection."""
        if scope["type"] == "http" and (scope["path"] == self.path or scope["path"].startswith(f"{self.path}/")):
            raw = scope.get("raw_path") or b""
            scope = {
                **scope,
                "path": scope["path"].removeprefix(self.path) or "/",
                "raw_path": (raw.removeprefix(self.raw) or b"/") if raw.startswith(self.raw) else raw,
            }
        await self.app(scope, receive, send)
