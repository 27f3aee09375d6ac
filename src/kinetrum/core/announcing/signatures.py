"""Signatures of announcements, by which a receiver knows who sent them, that nothing was changed, and when.

Standard Webhooks 1.0, the symmetric scheme `v1`: HMAC with SHA-256 over the message's id, the moment and the body.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Sequence

_PREFIX = "whsec_"
# How far a receiver lets clocks be apart.
TOLERANCE_S = 300


def key_of(secret: str) -> bytes:
    """Return the key that a secret is: behind `whsec_` the bytes that the base64 says, else the text's own.

    Raises ValueError for what is behind that prefix and is no base64.
    """
    if not secret.startswith(_PREFIX):
        return secret.encode()
    try:
        return base64.b64decode(secret.removeprefix(_PREFIX), validate=True)
    except (binascii.Error, ValueError):
        raise ValueError("behind whsec_ the secret is base64, and this one is not") from None


def signature_of(secrets: Sequence[str], message: str, seconds: int, body: bytes) -> str:
    """Return the value of `webhook-signature`: one signature for each secret, of which a receiver needs one to hold.

    Parameters
    ----------
    secrets:
        The secret in use and, while it is changed, the one before.
    message:
        The value of `webhook-id`: the same however often the message is sent. It has no dot in it, by which the signed
        parts are told apart.
    seconds:
        The value of `webhook-timestamp`: when this is sent, in seconds since 1970.
    body:
        The bytes of the body, as they are sent.
    """
    if "." in message:
        raise ValueError(f"a message's id has no dot in it, and {message!r} has")
    signed = f"{message}.{seconds}.".encode() + body
    macs = (hmac.new(key_of(secret), signed, hashlib.sha256).digest() for secret in secrets)
    return " ".join(f"v1,{base64.b64encode(mac).decode()}" for mac in macs)


def is_signed(secrets: Sequence[str], message: str, seconds: int, body: bytes, signature: str, now: int) -> bool:
    """Tell whether a received message was signed with one of the secrets, not long ago.

    `signature` is what came as `webhook-signature`, `now` the receiver's clock in seconds since 1970.
    """
    if abs(now - seconds) > TOLERANCE_S or "." in message:
        return False
    right = signature_of(secrets, message, seconds, body).split()
    # Every pair is compared, in the same time whatever they are.
    found = [hmac.compare_digest(one.encode(), other.encode()) for one in signature.split() for other in right]
    return any(found)
