"""What may be a password: long enough not to be guessed, whatever it is made of (NIST SP 800-63B, 5.1.1)."""

from __future__ import annotations

from kinetrum.core.base.errors import InvalidInput

SHORTEST, LONGEST = 12, 1_000
_FEWEST_CHARACTERS = 5


def check_password(password: str, name: str) -> str:
    """Return a password if it may be one for somebody; raises InvalidInput with the rule that it breaks."""
    if not SHORTEST <= len(password) <= LONGEST:
        raise InvalidInput(f"A password has {SHORTEST} to {LONGEST} characters.", field="password")
    if len(set(password)) < _FEWEST_CHARACTERS:
        raise InvalidInput(f"A password has at least {_FEWEST_CHARACTERS} different characters.", field="password")
    rest = password.casefold().replace(name.casefold(), "")
    if len(rest) < SHORTEST // 2:
        raise InvalidInput("A password is not one's own name again and again.", field="password")
    return password
