"""The address at which people reach the service, for what leaves it: feeds, archives, identifiers."""

from __future__ import annotations

from urllib.parse import urlsplit

from fastapi import FastAPI, Request


def public_address(request: Request) -> str:
    """Return the configured address without a slash at its end, else the one that the service listens on.

    What the request's Host header says is no source: whoever asks writes it.
    """
    configured: str | None = request.app.state.public_address
    if configured is not None:
        return configured
    host, port = request.scope.get("server") or ("127.0.0.1", None)
    host = f"[{host}]" if ":" in host else host
    return f"http://{host}:{port}" if port else f"http://{host}"


def public_path(app: FastAPI) -> str:
    """Return the path below which people reach the service, without a slash at its end: "" at the root of a host."""
    return urlsplit(app.state.public_address or "").path


def is_secure(request: Request) -> bool:
    """Tell whether people reach the service by TLS: the public address says so, or a proxy that is believed."""
    configured: str | None = request.app.state.public_address
    return request.url.scheme == "https" or (configured is not None and configured.startswith("https://"))
