"""People who sign in elsewhere: they appear with their first sign-in, with the groups that they are told to be of."""

from __future__ import annotations

from kinetrum.actions.people.signing_in import SignedIn, open_session
from kinetrum.core.access.claims import Claims
from kinetrum.core.base.errors import NotAllowed
from kinetrum.storage.db.database import transaction
from kinetrum.storage.people import journal, people
from kinetrum.storage.people.people import PersonRow


def sign_in_by(claims: Claims, origin: str) -> SignedIn:
    """Open a session for whoever signed in elsewhere; raises NotAllowed where the account was deactivated here."""
    return open_session(_person(claims, origin), origin)


@transaction
def _person(claims: Claims, origin: str) -> PersonRow:
    person = people.person_of_subject(claims.subject)
    if person is None:
        # Never an account that is there: whoever may choose names elsewhere would choose somebody's here.
        name = people.free_name(claims.name)
        person_id = people.add_person(name, claims.full_name, "", False, subject=claims.subject, mail=claims.mail)
        journal.append(None, person_id, "signed in elsewhere, first", name, source=journal.Source(origin))
        person = people.person_by_id(person_id)
    if person.deactivated_at is not None:
        raise NotAllowed(f"The account of {person.full_name} was deactivated; an administrator can let you in again.")
    before = people.groups_of(person.person_id)
    if list(claims.groups) != before and sorted(claims.groups) != before:
        people.set_groups(person.person_id, claims.groups)
        change = journal.Change(before, sorted(claims.groups))
        journal.append(
            None, person.person_id, "came with other groups", person.name, change, source=journal.Source(origin)
        )
    return person
