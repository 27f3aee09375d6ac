"""Every error that Kinetrum raises on purpose.

    KinetrumError
    ├── InvalidInput         the input breaks a rule; `field` says where
    ├── NotFound             nothing of that name, or nothing this person may see
    ├── NotSignedIn          no or unknown credentials
    ├── NotAllowed           signed in, but the role does not permit it
    ├── Conflict             true of the state just now: someone or something else was first
    │   └── UnexpectedOccupant   another version stands on the stage than the person saw
    ├── TooLarge             over a stated limit
    ├── Damaged              stored bytes no longer match their digest
    ├── TooManyTries         too many wrong passwords; `retry_after_s` says how long to wait
    └── Unavailable          the service or its database cannot answer now; try again
        └── OverQuota            the project has used up what it may take; later there is room again

A message says what happened with the value, the rule, and the next step.
"""

from __future__ import annotations


class KinetrumError(Exception):
    """Base of all deliberate errors; `str(error)` is written for the person who sees it.

    `field` names the part of the input that is at fault, `column` where in its text, from 1.
    """

    def __init__(self, message: str, *, field: str | None = None, column: int | None = None) -> None:
        super().__init__(message)
        self.field, self.column = field, column


class InvalidInput(KinetrumError, ValueError):
    """The input breaks a rule. `field` names the offending part where there is one."""


class NotFound(KinetrumError, LookupError):
    """Nothing of that name exists, or its existence is not this person's to know."""


class NotSignedIn(KinetrumError):
    """No credentials, or none that are known."""


class NotAllowed(KinetrumError):
    """The person is known; the role does not permit the act."""


class Conflict(KinetrumError):
    """The act contradicts the present state; nothing was changed."""


class UnexpectedOccupant(Conflict):
    """Another version stands on the stage than the caller saw."""


class TooLarge(KinetrumError):
    """The input is over a stated limit."""


class Damaged(KinetrumError):
    """Stored or transferred bytes do not match their digest."""


class TooManyTries(KinetrumError):
    """Too many tries were wrong; the next one has to wait for `retry_after_s` seconds."""

    def __init__(
        self, message: str, *, field: str | None = None, column: int | None = None, retry_after_s: float = 0.0
    ) -> None:
        super().__init__(message, field=field, column=column)
        self.retry_after_s = retry_after_s


class Unavailable(KinetrumError):
    """The service cannot answer now; the same call may succeed later."""


class OverQuota(Unavailable):
    """The project has used up what it may take: bytes, or runs or points of a day."""
