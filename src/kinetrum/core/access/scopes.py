"""What a token may be used for: less than the person or project that it speaks for, never more."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.permissions import Act


class Scope(StrEnum):
    """A part of what can be done."""

    READ = "read"
    RECORD = "record"
    REGISTER = "register"
    REVIEW = "review"
    PLACE = "place"
    REPORT = "report"
    ADMINISTER = "administer"


SCOPE_OF: dict[Act, Scope] = {
    Act.SEE: Scope.READ,
    Act.RECORD: Scope.RECORD,
    Act.DESCRIBE: Scope.RECORD,
    Act.BIN_OWN: Scope.RECORD,
    Act.REGISTER: Scope.REGISTER,
    Act.EVIDENCE: Scope.REGISTER,
    Act.WRITE_CARD: Scope.REGISTER,
    Act.REVIEW: Scope.REVIEW,
    Act.PLACE: Scope.PLACE,
    Act.PLACE_GUARDED: Scope.PLACE,
    Act.CHOOSE_LEAD: Scope.PLACE,
    Act.RETIRE: Scope.PLACE,
    Act.ADMINISTER: Scope.ADMINISTER,
    Act.READ_JOURNAL: Scope.ADMINISTER,
    Act.RULE: Scope.ADMINISTER,
    Act.OVERRIDE: Scope.ADMINISTER,
    Act.BIN_OTHERS: Scope.ADMINISTER,
    Act.PURGE: Scope.ADMINISTER,
}
# What puts something in and answers with nothing that was there before.
_ONLY_IN = frozenset({Act.RECORD})


def scopes_of(act: Act) -> tuple[Scope, ...]:
    """Return the scopes that an act takes: reading too, but where something is only put in."""
    scope = SCOPE_OF[act]
    return (scope,) if act in _ONLY_IN or scope is Scope.READ else (scope, Scope.READ)


EVERY_SCOPE = frozenset(Scope)


def read_scopes(words: Collection[str]) -> frozenset[Scope]:
    """Return scopes by their words; raises InvalidInput for none, and for an unknown one.

    Whatever a token is for, it has to see what it is about: reading is in every one of them but `record` and `report`
    alone, which machines have that put something in and get nothing out.
    """
    if not words:
        raise InvalidInput(f"A token has at least one scope. Choose from: {', '.join(Scope)}.", field="scopes")
    for word in words:
        if word not in EVERY_SCOPE:
            raise InvalidInput(f"Unknown scope {word!r}. Choose from: {', '.join(Scope)}.", field="scopes")
    scopes = frozenset(Scope(word) for word in words)
    return scopes if scopes <= {Scope.RECORD, Scope.REPORT} else scopes | {Scope.READ}


def in_order(scopes: Collection[Scope]) -> list[str]:
    """Return the words of scopes in their usual order."""
    return [scope.value for scope in Scope if scope in scopes]
