"""The form of a token: a prefix by which scanners of secrets find it, 256 random bits, and a check sum.

The check sum tells a mistyped or cut token from one that was revoked. It is the CRC-32 (ISO/HDLC, as in zlib) of what
comes before it, in six digits of base 62.
"""

from __future__ import annotations

import re
import secrets
import string
import zlib

PREFIX = "ktm_"
_DIGITS = string.digits + string.ascii_uppercase + string.ascii_lowercase
_RANDOM, _SUM = 43, 6
_FORM = re.compile(rf"{PREFIX}[0-9A-Za-z]{{{_RANDOM + _SUM}}}")
# As tokens were before they had a check sum.
_OLD_FORM = re.compile(rf"{PREFIX}[\w-]{{43}}")


def new_secret() -> str:
    """Return a new token's secret."""
    text = PREFIX + "".join(secrets.choice(_DIGITS) for _ in range(_RANDOM))
    return text + _check_sum(text)


def is_whole(secret: str) -> bool:
    """Tell whether a secret has the form of a token and was neither mistyped nor cut."""
    if _FORM.fullmatch(secret):
        return _check_sum(secret[:-_SUM]) == secret[-_SUM:]
    return _OLD_FORM.fullmatch(secret) is not None


def _check_sum(text: str) -> str:
    number, digits = zlib.crc32(text.encode()), ""
    for _ in range(_SUM):
        number, digit = divmod(number, len(_DIGITS))
        digits = _DIGITS[digit] + digits
    return digits
