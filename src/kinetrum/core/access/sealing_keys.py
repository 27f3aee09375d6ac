"""Keys with which secrets are sealed, as they are given to the service: 32 bytes in base64 (RFC 4648, section 5)."""

from __future__ import annotations

import base64
import binascii
import secrets

_BYTES = 32


def new_key() -> str:
    """Return a fresh key."""
    return base64.urlsafe_b64encode(secrets.token_bytes(_BYTES)).decode()


def read_key(text: str) -> bytes:
    """Return the bytes of a key; raises ValueError for what is none, without repeating it."""
    try:
        key = base64.b64decode(text, altchars=b"-_", validate=True)
    except (binascii.Error, ValueError):
        key = b""
    if len(key) != _BYTES:
        raise ValueError(f"a key is {_BYTES} bytes in base64, and one of these is not")
    return key
