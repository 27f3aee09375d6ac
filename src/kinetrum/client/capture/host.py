"""Which machine this is: a spool in a shared folder is delivered by the machine that wrote it."""

from __future__ import annotations

import functools
import hashlib
import os
import socket
from pathlib import Path


@functools.cache
def host_identity() -> bytes:
    """Return 16 bytes that tell this machine from others: of its machine id and host name.

    KINETRUM_MACHINE replaces the host name where that changes, as in containers that share a volume.
    """
    try:
        machine = Path("/etc/machine-id").read_text().strip()
    except OSError:
        machine = ""
    return hashlib.sha256(f"{machine} {host_name()}".encode()).digest()[:16]


def host_name() -> str:
    """Return the name under which this machine records."""
    return os.environ.get("KINETRUM_MACHINE") or socket.gethostname()
