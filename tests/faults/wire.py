"""A wire between a client and the service that counts what passes and breaks where it is told to."""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

_PIECE = 64 * 1024


class Wire:
    """Passes connections on to a service; `cut_up` and `cut_down` break them after so many bytes of one connection.

    Each break takes one of `breaks`; at none left the wire holds. `passed_up` and `passed_down` count all bytes.
    """

    def __init__(self, url: str) -> None:
        self.target = _address(url)
        self.cut_up: int | None = None
        self.cut_down: int | None = None
        self.breaks = 0
        self.broken = self.passed_up = self.passed_down = 0
        self._lock = threading.Lock()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._listening.getsockname()[1]}"
        threading.Thread(target=self._accept, daemon=True).start()

    def lead_to(self, url: str) -> None:
        """Connections from now on go to another service."""
        self.target = _address(url)

    def close(self) -> None:
        """Take no more connections."""
        self._listening.close()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._listening.accept()
                threading.Thread(target=self._join, args=(near,), daemon=True).start()

    def _join(self, near: socket.socket) -> None:
        try:
            far = socket.create_connection(self.target, timeout=5)
        except OSError:
            _reset(near)
            return
        far.settimeout(None)
        up = threading.Thread(target=self._pass, args=(near, far, "up"), daemon=True)
        up.start()
        self._pass(far, near, "down")
        up.join()
        near.close()
        far.close()

    def _pass(self, source: socket.socket, sink: socket.socket, way: str) -> None:
        passed = 0
        with contextlib.suppress(OSError):
            while piece := source.recv(_PIECE):
                sink.sendall(piece)
                passed += len(piece)
                if self._breaks_now(way, len(piece), passed):
                    _reset(source)
                    # Down, what has passed still arrives; up, what is under way is lost.
                    if way == "up":
                        _reset(sink)
                    break
        for end in (source, sink):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def _breaks_now(self, way: str, count: int, passed: int) -> bool:
        with self._lock:
            if way == "up":
                self.passed_up += count
            else:
                self.passed_down += count
            limit = self.cut_up if way == "up" else self.cut_down
            if limit is None or passed < limit or self.broken >= self.breaks:
                return False
            self.broken += 1
            return True


def _address(url: str) -> tuple[str, int]:
    parts: Any = urlsplit(url)
    return parts.hostname, parts.port


def _reset(end: socket.socket) -> None:
    """Close at once, as a wire that is cut: what is under way is lost."""
    with contextlib.suppress(OSError):
        end.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        # A reader of the same socket only wakes when it is shut down.
        end.shutdown(socket.SHUT_RDWR)
    end.close()


@contextmanager
def wire_to(url: str) -> Iterator[Wire]:
    """A wire to a service, for a block."""
    wire = Wire(url)
    try:
        yield wire
    finally:
        wire.close()
