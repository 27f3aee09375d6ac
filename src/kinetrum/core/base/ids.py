"""Identities made by clients: UUID version 7 (RFC 9562), ordered by the time they were made."""

from __future__ import annotations

from kinetrum.core.base.errors import InvalidInput

_HEX_DIGITS = frozenset("0123456789abcdef")
_DASHES = (8, 13, 18, 23)


def uuid7(milliseconds: int, random: bytes) -> str:
    """Build a UUIDv7 from milliseconds since 1970 and ten random bytes, in canonical lowercase form."""
    noise = int.from_bytes(random[:10], "big")
    value = (milliseconds & ((1 << 48) - 1)) << 80
    value |= 0x7 << 76 | (noise >> 62 & 0xFFF) << 64 | 0b10 << 62 | noise & ((1 << 62) - 1)
    digits = f"{value:032x}"
    return f"{digits[:8]}-{digits[8:12]}-{digits[12:16]}-{digits[16:20]}-{digits[20:]}"


def id_bytes(text: object, field: str = "id") -> bytes:
    """Return the 16 bytes of a canonical UUID; raises InvalidInput for anything else."""
    if not isinstance(text, str) or not is_id(text.lower()):
        raise InvalidInput(f"{text!r} is not an id; a UUID like 0190a1b2-… with 32 hex digits is needed.", field=field)
    return bytes.fromhex(text.replace("-", ""))


def id_text(raw: bytes) -> str:
    """Return the canonical text of 16 bytes."""
    digits = raw.hex()
    return f"{digits[:8]}-{digits[8:12]}-{digits[12:16]}-{digits[16:20]}-{digits[20:]}"


def is_id(text: str) -> bool:
    """Tell whether a text is a canonical UUID."""
    # By hand: a pattern would be the only one that many a short command compiles.
    digits = [sign for place, sign in enumerate(text) if place not in _DASHES]
    return len(text) == 36 and all(text[place] == "-" for place in _DASHES) and _HEX_DIGITS.issuperset(digits)
