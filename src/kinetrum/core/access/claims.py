"""What somebody who signed in elsewhere is here: a name to go by, and groups, from the claims that were told."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.names import NAME_LIMIT, RESERVED

_GROUPS_MOST, _SUBJECT_MOST = 200, 300


@dataclass(frozen=True)
class Claims:
    """Who signed in elsewhere: `subject` is who it is there for ever; the rest may change from one time to the next."""

    subject: str
    name: str
    full_name: str
    mail: str
    groups: tuple[str, ...]


def read_claims(issuer: str, told: Mapping[str, Any], name_claim: str, groups_claim: str) -> Claims:
    """Return who somebody is, from the claims of a verified ID token (OpenID Connect Core 1.0, section 5.1).

    Parameters
    ----------
    issuer:
        Who says so. The same `sub` of another issuer is somebody else.
    told:
        The claims.
    name_claim, groups_claim:
        Which claims hold the name to go by and the groups; the mail address and `sub` stand in for a missing name.
    """
    sub = str(told["sub"])
    subject = f"{issuer} {sub}"
    if len(subject) > _SUBJECT_MOST:
        # Cut, two of them could be one.
        subject = f"sha256:{hashlib.sha256(subject.encode()).hexdigest()}"
    mail = _text(told.get("email"))
    named = _text(told.get(name_claim)) or mail.partition("@")[0] or sub
    groups = told.get(groups_claim)
    words = [groups] if isinstance(groups, str) else groups if isinstance(groups, list) else []
    return Claims(
        subject,
        as_name(named),
        _text(told.get("name")) or named[:200],
        mail,
        tuple(dict.fromkeys(as_name(word) for word in words[:_GROUPS_MOST] if isinstance(word, str) and word)),
    )


def _text(value: object) -> str:
    return value.strip()[:200] if isinstance(value, str) and value.isprintable() else ""


def as_name(text: str) -> str:
    """Return a text as a name may be here: lowercase letters, digits, '.', '_' and '-', beginning with a letter."""
    name = re.sub(r"[^a-z0-9._-]+", "-", text.casefold()).strip("-._")
    name = name if name[:1].isalpha() else f"x-{name}".rstrip("-")
    name = name[:NAME_LIMIT]
    return f"{name}-1" if name in RESERVED else name
