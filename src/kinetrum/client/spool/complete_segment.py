"""Records of a command that is over in a moment: a writer's folder that appears whole, with everything in it.

What a training process does with a map, a lock and threads costs such a command more than all else that it does. To
whoever delivers, the folder is that of a writer that has ended. Takes nothing that is heavy.
"""

from __future__ import annotations

import os
import time

from kinetrum.client.capture.host import host_identity, host_name
from kinetrum.client.spool.layout import (
    END,
    END_ROOM,
    HEAD,
    HEADER,
    HEADER_SIZE,
    JSON,
    JSON_HEAD,
    MAGIC,
    SEAL,
    SEAL_MASK,
    VERSION,
    json_size,
    packed_points,
    points_head,
)
from kinetrum.core.base.ids import uuid7
from kinetrum.places import make_private_folder


def new_id() -> str:
    """Make a client's identity: a UUIDv7 of now."""
    return uuid7(time.time_ns() // 1_000_000, os.urandom(10))


class CompleteSegment:
    """Records in their order, to be written at once."""

    def __init__(self) -> None:
        self.writer = new_id()
        self.moment = time.time_ns() // 1000
        raw, host = bytes.fromhex(self.writer.replace("-", "")), host_identity()
        self._bytes = bytearray(
            HEADER.pack(MAGIC, VERSION, HEADER_SIZE, os.getpid(), raw, self.moment, host),
        )

    def add_json(self, text: bytes) -> None:
        """Append a JSON record."""
        at, size = len(self._bytes), json_size(text)
        self._bytes += JSON_HEAD.pack(size, JSON, len(text), 0)
        self._bytes += text.ljust(size - JSON_HEAD.size - 8, b"\0")
        self._bytes += SEAL.pack(at ^ SEAL_MASK)

    def add_point(self, shape: int, step: int, values: list[float]) -> None:
        """Append a point of a shape that was declared before; the values are in the order of its keys."""
        layout = packed_points(len(values))
        seal = len(self._bytes) ^ SEAL_MASK
        self._bytes += layout.pack(points_head(layout.size, shape), step, self.moment, *values, seal)

    def write(self, root: str) -> None:
        """Write it into a spool; nobody sees it before it is whole. Raises OSError where the spool takes nothing."""
        at = len(self._bytes)
        self._bytes += HEAD.pack(END_ROOM, END) + SEAL.pack(at ^ SEAL_MASK)
        made = os.path.join(root, "opening", self.writer)
        writers = os.path.join(root, "writers")
        make_private_folder(made)
        try:
            make_private_folder(writers)
            _write_file(os.path.join(made, "host"), host_name().encode())
            _write_file(os.path.join(made, "000001.seg"), bytes(self._bytes))
            os.rename(made, os.path.join(writers, self.writer))
        except OSError:
            for name in os.listdir(made):
                os.unlink(os.path.join(made, name))
            os.rmdir(made)
            raise


def _write_file(path: str, content: bytes) -> None:
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(content)
