"""Whose becomes what an archive brings, and in which words it is told where it came from and who made it."""

from __future__ import annotations

from kinetrum.actions.context import Actor
from kinetrum.core.archives.archive import Person
from kinetrum.storage.people import people

WORDS_LIMIT = 200


class Origin:
    """The origin of what one archive brings: its source, the account that takes it in, and what its people are here.

    An archive speaks for no account: what it brings is the importer's, and who is said to have made it stands in the
    words. With `same_people`, which an administrator says, runs, versions and notes are those of the accounts of the
    same names.
    """

    def __init__(self, actor: Actor, source: str, same_people: bool) -> None:
        self.actor, self.source = actor, source
        self._same_people = same_people
        self._known: dict[str, int | None] = {}

    def person_id(self, by: Person) -> int:
        """Return the account to which something belongs."""
        person = self._account(by)
        return self.actor.person_id if person is None else person

    def words(self, by: Person, reference: str = "") -> str:
        """Tell where something came from, under which reference, and who is said to have made it if no account is."""
        words = [reference] if reference else []
        if self._account(by) is None:
            words.append(f"by {by.full_name or by.name}")
        return (f"{self.source} ({', '.join(words)})" if words else self.source)[:WORDS_LIMIT]

    def _account(self, by: Person) -> int | None:
        if not self._same_people:
            return None
        if by.name not in self._known:
            person = people.person_named(by.name)
            self._known[by.name] = person.person_id if person else None
        return self._known[by.name]
