"""Which machine this is: a spool in a shared folder is delivered by the machine that wrote it.

Loaded by commands that record a line and leave, so it takes nothing that is heavy.
"""

from __future__ import annotations

import os

_identity: bytes | None = None


def host_identity() -> bytes:
    """Return 16 bytes that tell this machine from others: of its machine id and host name.

    KINETRUM_MACHINE replaces the host name where that changes, as in containers that share a volume.
    """
    global _identity
    if _identity is None:
        import hashlib

        _identity = hashlib.sha256(machine_text().encode()).digest()[:16]
    return _identity


def take_identity(text: str, identity: str) -> None:
    """Take over an identity, in hexadecimal digits, that was made of a text, where that is still this machine's.

    Making it anew loads a library that takes longer than many a short command.
    """
    global _identity
    if text == machine_text():
        _identity = bytes.fromhex(identity)


def machine_text() -> str:
    """Return the text that `host_identity` is made of."""
    try:
        with open("/etc/machine-id", encoding="utf-8") as file:
            machine = file.read().strip()
    except OSError:
        machine = ""
    return f"{machine} {host_name()}"


def host_name() -> str:
    """Return the name under which this machine records."""
    return os.environ.get("KINETRUM_MACHINE") or os.uname().nodename
