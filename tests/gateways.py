"""What stands between a client and the service in companies: a gateway with TLS or a limit, a proxy for the outside."""

from __future__ import annotations

import contextlib
import http.client
import select
import socket
import ssl
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import urlsplit


@dataclass
class Seen:
    """An address, and what came by there: sizes of bodies that passed and that were refused, and tunnels."""

    url: str = ""
    passed: list[int] = field(default_factory=list)
    refused: list[int] = field(default_factory=list)
    tunnels: list[str] = field(default_factory=list)
    tokens: list[str | None] = field(default_factory=list)


class _Quiet(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *given: Any) -> None:
        """Say nothing."""


@contextlib.contextmanager
def _serving(handler: type[BaseHTTPRequestHandler], tls: ssl.SSLContext | None = None, port: int = 0) -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", port), handler)
    server.daemon_threads = True
    if tls is not None:
        server.socket = tls.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"{'https' if tls else 'http'}://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


@contextlib.contextmanager
def gateway(target: str, limit: int | None = None, tls: ssl.SSLContext | None = None, port: int = 0) -> Iterator[Seen]:
    """Pass everything on to a service, but no body over a limit, which is refused as nginx does it."""
    seen = Seen()
    found = urlsplit(target)

    class Handler(_Quiet):
        def _pass(self) -> None:
            size = int(self.headers.get("Content-Length") or 0)
            body = self.rfile.read(size)
            seen.tokens.append(self.headers.get("Authorization"))
            if limit is not None and size > limit:
                seen.refused.append(size)
                self._answer(413, b"<html><head><title>413 Request Entity Too Large</title></head></html>", "text/html")
                return
            seen.passed.append(size)
            headers = {key: value for key, value in self.headers.items() if key.lower() not in {"host", "connection"}}
            link = http.client.HTTPConnection(str(found.hostname), found.port, timeout=30)
            try:
                link.request(self.command, self.path, body=body or None, headers=headers)
                answer = link.getresponse()
                self._answer(answer.status, answer.read(), answer.headers.get("Content-Type", "application/json"))
            finally:
                link.close()

        def _answer(self, status: int, body: bytes, kind: str) -> None:
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        do_GET = do_PUT = do_POST = do_PATCH = do_DELETE = _pass

    with _serving(Handler, tls, port) as url:
        seen.url = url
        yield seen


@contextlib.contextmanager
def stranger() -> Iterator[Seen]:
    """Somebody else's service: it notes who calls, and answers everything with an empty success."""
    seen = Seen()

    class Handler(_Quiet):
        def _note(self) -> None:
            seen.passed.append(len(self.rfile.read(int(self.headers.get("Content-Length") or 0))))
            seen.tokens.append(self.headers.get("Authorization"))
            self.send_response(200)
            self.send_header("Content-Length", "2")
            self.end_headers()
            self.wfile.write(b"{}")

        do_GET = do_PUT = do_POST = do_PATCH = do_DELETE = _note

    with _serving(Handler) as url:
        seen.url = url
        yield seen


@contextlib.contextmanager
def tunnel(target: str) -> Iterator[Seen]:
    """A proxy for the outside: whatever name is asked for, it leads to one address."""
    seen = Seen()
    found = urlsplit(target)

    class Handler(_Quiet):
        def do_CONNECT(self) -> None:
            seen.tunnels.append(self.path)
            with socket.create_connection((str(found.hostname), int(found.port or 0)), timeout=30) as link:
                self.send_response(200)
                self.end_headers()
                _exchange(self.connection, link)
            self.close_connection = True

    with _serving(Handler) as url:
        seen.url = url
        yield seen


def _exchange(one: socket.socket, other: socket.socket) -> None:
    pairs = {one: other, other: one}
    while True:
        for source in select.select(list(pairs), [], [], 30)[0]:
            piece = source.recv(65_536)
            if not piece:
                return
            pairs[source].sendall(piece)
