"""One's own account: password, full name, time zone, theme."""

from __future__ import annotations

from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from kinetrum.actions.context import Actor
from kinetrum.actions.people.accounts import PersonView, check_full_name, set_new_password, view_of
from kinetrum.actions.people.signing_in import check_password_of, hash_password
from kinetrum.core.access.passwords import check_password
from kinetrum.core.base.errors import InvalidInput
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, people

THEMES = ("", "light", "dark")


def change_password(actor: Actor, current: str, password: str, revoke_tokens: bool, address: str) -> None:
    """Change one's own password, with the one of now; other sessions end, tokens where that is asked for.

    Guesses at the present one are slowed as at sign-in.
    """
    actor.require_session("Changing a password")
    check_password_of(actor.name, current, address)
    _change_password(actor, hash_password(check_password(password, actor.name)), revoke_tokens)


@transaction
def _change_password(actor: Actor, password_hash: str, revoke_tokens: bool) -> None:
    person = people.person_by_id(actor.person_id)
    set_new_password(person, password_hash, revoke_tokens, but=actor.session_id)
    journal.append(None, actor.person_id, "changed the password", actor.name, source=actor.source)


@transaction
def read_own(actor: Actor) -> PersonView:
    """Return one's own account."""
    return view_of(people.person_by_id(actor.person_id), None)


@transaction
def preferences(actor: Actor) -> tuple[str, str]:
    """Return the time zone and the theme that one chose; empty where none was."""
    row = people.person_by_id(actor.person_id)
    return row.time_zone, row.theme


@transaction
def change_own(
    actor: Actor, full_name: str | None = None, time_zone: str | None = None, theme: str | None = None
) -> PersonView:
    """Change one's own full name, time zone (of the IANA database, or none) and theme; None leaves it as it is."""
    actor.require_session("Changing one's own account")
    fields: dict[str, object] = {}
    if full_name is not None:
        fields["full_name"] = check_full_name(full_name)
    if time_zone is not None:
        fields["time_zone"] = _check_zone(time_zone)
    if theme is not None:
        if theme not in THEMES:
            raise InvalidInput(f"Unknown theme {theme!r}. Choose one of: light, dark, or nothing.", field="theme")
        fields["theme"] = theme
    person = people.person_by_id(actor.person_id)
    if "full_name" in fields and fields["full_name"] != person.full_name:
        change = journal.Change(person.full_name, fields["full_name"])
        journal.append(None, actor.person_id, "changed their full name", person.name, change, source=actor.source)
    if fields:
        people.set_person(actor.person_id, **fields)
    return view_of(people.person_by_id(actor.person_id), None)


def _check_zone(text: str) -> str:
    try:
        return text and ZoneInfo(text).key
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise InvalidInput(
            f"Unknown time zone {text[:60]!r}. Write one of the IANA database, such as Europe/Vienna.",
            field="time_zone",
        ) from None
