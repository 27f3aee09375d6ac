"""Sealing: secrets are kept so that whoever reads the database, or a backup of it, learns nothing of them.

AES-256 in Galois/Counter Mode (NIST SP 800-38D), with a fresh nonce of 96 bits each time. What a secret is for is
authenticated with it: moved to another place, it does not open.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from kinetrum.core.access.sealing_keys import read_key

_FORM = b"\x01"
_ID_BYTES, _NONCE_BYTES = 4, 12


class NotOpened(Exception):
    """It was sealed with another key, for another place, or was altered."""


class Seal:
    """Seals with the first of its keys, and opens what any of them sealed.

    Parameters
    ----------
    keys:
        One or more, as `sealing_keys.new_key` makes them. Raises ValueError where one is none, or there is none.
    """

    def __init__(self, keys: Sequence[str]) -> None:
        if not keys:
            raise ValueError("there is no key")
        self._keys = {_id_of(key): AESGCM(key) for key in map(read_key, keys)}
        self._first = next(iter(self._keys))

    def seal(self, text: str, place: str) -> bytes:
        """Return a text sealed for a place."""
        nonce = secrets.token_bytes(_NONCE_BYTES)
        return _FORM + self._first + nonce + self._keys[self._first].encrypt(nonce, text.encode(), place.encode())

    def open(self, sealed: bytes, place: str) -> str:
        """Return what was sealed for a place; raises NotOpened where it was not, or not with one of these keys."""
        form, key, rest = sealed[:1], sealed[1 : 1 + _ID_BYTES], sealed[1 + _ID_BYTES :]
        if form != _FORM or key not in self._keys or len(rest) <= _NONCE_BYTES:
            raise NotOpened
        try:
            return self._keys[key].decrypt(rest[:_NONCE_BYTES], rest[_NONCE_BYTES:], place.encode()).decode()
        except InvalidTag:
            raise NotOpened from None

    def is_latest(self, sealed: bytes) -> bool:
        """Tell whether the first key sealed it; if not, it is sealed anew before that key goes."""
        return sealed[1 : 1 + _ID_BYTES] == self._first


def _id_of(key: bytes) -> bytes:
    # Says which key it was, and nothing of the key.
    return hashlib.sha256(b"kinetrum key" + key).digest()[:_ID_BYTES]
