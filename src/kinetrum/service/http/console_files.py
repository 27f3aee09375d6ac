"""The console's built files, served from the same origin under a strict policy."""

from __future__ import annotations

import html
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.exceptions import HTTPException

from kinetrum.actions.search import saved_views
from kinetrum.core.base.errors import KinetrumError
from kinetrum.service.http.access import signed_in
from kinetrum.service.http.public_address import public_path

FOLDER = Path(__file__).parents[1] / "console"
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; "
    "media-src 'self'; font-src 'self'; connect-src 'self'; "
    "worker-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors {framing}; "
    "object-src 'none'"
)
_NOT_BUILT = "<!doctype html><title>Kinetrum</title><p>The console was not built; run 'make console'.</p>"
_TYPES = {
    ".js": "text/javascript",
    ".css": "text/css",
    ".woff2": "font/woff2",
    ".svg": "image/svg+xml",
    ".png": "image/png",
    ".ico": "image/x-icon",
    ".html": "text/html; charset=utf-8",
}


def install(app: FastAPI) -> None:
    """Serve the console at every address that is not the interface's."""

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str, request: Request) -> Response:
        if path.startswith("api/"):
            raise HTTPException(404)
        file = (FOLDER / path).resolve()
        if path and file.is_file() and file.is_relative_to(FOLDER.resolve()) and file.suffix in _TYPES:
            forever = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
            return FileResponse(file, media_type=_TYPES[file.suffix], headers={"Cache-Control": forever})
        if path.startswith("assets/"):
            raise HTTPException(404)
        index = FOLDER / "index.html"
        headers = {
            "Content-Security-Policy": POLICY.format(framing=_framing(path, request)),
            "Cache-Control": "no-cache",
        }
        if not index.is_file():
            return HTMLResponse(_NOT_BUILT, headers=headers)
        return HTMLResponse(_placed(index.read_text(encoding="utf-8"), public_path(request.app)), headers=headers)


def _placed(index: str, below: str) -> str:
    """Return the page with the path below which it is served: its scripts and styles are named relative to that."""
    place = f'<meta name="below" content="{html.escape(below)}" />'
    return index.replace("<head>", f"<head>\n    {place}", 1).replace('="./', f'="{html.escape(below)}/')


def _framing(path: str, request: Request) -> str:
    """Say who may show this page in a frame: nobody, but for views of projects that list origins.

    Which a project lists, and that there is such a project, is told to who may see it: anybody else sees nothing in the
    frame either.
    """
    kind, _, rest = path.partition("/")
    name = rest.partition("/")[0]
    if kind not in {"shared", "embed"} or not name:
        return "'none'"
    try:
        origins = (
            saved_views.origins_of_link(name)
            if kind == "shared"
            else saved_views.origins_of_project(signed_in(request), name)
        )
    except KinetrumError:
        # Without an account, the project or the database nothing is shown anyway; that is framed by nobody.
        return "'none'"
    return " ".join(origins) or "'none'"
