"""Forms of tokens, scopes, passwords, the pace of guesses, the chain of the journal."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.access import pace, token_form
from kinetrum.core.access.journal_chain import BEGINNING, ChainedEntry, first_fault, next_digest
from kinetrum.core.access.passwords import check_password
from kinetrum.core.access.scopes import SCOPE_OF, Scope, in_order, read_scopes
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.permissions import Act


def test_a_token_tells_mistypings() -> None:
    secret = token_form.new_secret()
    assert secret.startswith("ktm_") and len(secret) == 53
    assert token_form.is_whole(secret)
    for at in range(4, len(secret)):
        other = "a" if secret[at] != "a" else "b"
        assert not token_form.is_whole(secret[:at] + other + secret[at + 1 :])
    for wrong in (secret[:-1], secret + "a", secret.upper(), "", "ktm_", secret[4:], f" {secret}", secret + "\n"):
        assert not token_form.is_whole(wrong)
    # As they were before.
    assert token_form.is_whole("ktm_" + "aB3_-" * 8 + "xyz")


def test_the_check_sum_is_a_known_one() -> None:
    """CRC-32 of `ktm_` and 43 zeros, in base 62: the form can be checked by scanners that do not know this program."""
    import zlib

    digits = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
    text = "ktm_" + "0" * 43
    number = sum(digits.index(digit) * 62**at for at, digit in enumerate(reversed(token_form._check_sum(text))))
    assert number == zlib.crc32(text.encode())


def test_every_act_has_a_scope() -> None:
    assert set(SCOPE_OF) == set(Act)


def test_scopes_are_read_with_what_they_need() -> None:
    assert read_scopes(["record"]) == {Scope.RECORD}
    assert read_scopes(["record", "report"]) == {Scope.RECORD, Scope.REPORT}
    assert read_scopes(["review"]) == {Scope.READ, Scope.REVIEW}
    assert in_order(read_scopes(["place", "record"])) == ["read", "record", "place"]
    with pytest.raises(InvalidInput, match="at least one scope"):
        read_scopes([])
    with pytest.raises(InvalidInput, match="Unknown scope 'write'"):
        read_scopes(["read", "write"])


@pytest.mark.parametrize("password", ["eleven-char", "aaaaaaaaaaaa", "abababababab", "ilseilseilse", "ILSE-ilse-ILSE-"])
def test_what_is_no_password(password: str) -> None:
    with pytest.raises(InvalidInput, match="A password"):
        check_password(password, "ilse")


@pytest.mark.parametrize("password", ["twelve-chars", "correct horse battery", "Pässwörter", "ilse likes owls"])
def test_what_is_a_password(password: str) -> None:
    if len(password) >= 12:
        assert check_password(password, "ilse") == password


def test_guesses_are_slowed_from_the_sixth_on() -> None:
    free = pace.FREE_BY_NAME
    assert [pace.seconds_to_wait(failures, 0, free) for failures in range(10)] == [0, 0, 0, 0, 0, 1, 2, 4, 8, 16]
    assert pace.seconds_to_wait(40, 0, free) == pace.LONGEST_S
    assert pace.seconds_to_wait(7, 3.9, free) == pytest.approx(0.1)
    assert pace.seconds_to_wait(7, 4.1, free) == 0
    assert pace.seconds_to_wait(40, pace.FORGOTTEN_S - 1, free) == 0
    # A clock that ran ahead lengthens nothing.
    assert pace.seconds_to_wait(7, -100, free) == 4


def test_a_day_of_guesses_is_few() -> None:
    """Who waits as told gets through fewer than 1,500 tries at one name in a day."""
    at = tries = 0.0
    failures = 0
    while at < 86_400:
        at += pace.seconds_to_wait(failures, 0, pace.FREE_BY_NAME) + 0.1
        failures += 1
        tries += 1
    assert tries < 1_500


def entries(count: int) -> list[ChainedEntry]:
    return [
        ChainedEntry(at * 2, 1, 1, at, "began", f"e/{at}", None, '"x"', "", "127.0.0.1 ü", "") for at in range(1, count)
    ]


def chained(listed: list[ChainedEntry]) -> list[tuple[int, int, bytes, ChainedEntry | None]]:
    links: list[tuple[int, int, bytes, ChainedEntry | None]] = []
    digest = BEGINNING
    for position, entry in enumerate(listed, 1):
        digest = next_digest(digest, entry)
        links.append((position, entry.entry, digest, entry))
    return links


def test_the_chain_tells_what_was_removed_or_altered() -> None:
    links = chained(entries(8))
    assert first_fault(links) is None
    assert first_fault([]) is None
    position, number, digest, entry = links[3]
    assert entry is not None
    for altered in (
        replace(entry, act="ended"),
        replace(entry, at=entry.at + 1),
        replace(entry, before=""),
        replace(entry, person=None),
    ):
        fault = first_fault([*links[:3], (position, number, digest, altered), *links[4:]])
        assert fault is not None and (fault.position, fault.entry) == (4, 8) and "altered" in fault.why
    gone = first_fault([*links[:3], (position, number, digest, None), *links[4:]])
    assert gone is not None and gone.why == "the entry was removed"
    cut = first_fault([*links[:3], *links[4:]])
    assert cut is not None and "a digest was removed" in cut.why
    # An altered entry with a digest that fits it breaks the chain at the next one.
    forged = replace(entry, act="ended")
    fault = first_fault([*links[:3], (position, number, next_digest(links[2][2], forged), forged), *links[4:]])
    assert fault is not None and fault.position == 5


@given(st.lists(st.text(max_size=5), min_size=2, max_size=4, unique=True))
def test_no_two_entries_have_one_digest(texts: list[str]) -> None:
    """Where one field ends and the next begins is part of what is digested."""
    first = ChainedEntry(1, None, None, 0, "", "", None, None, "", "", "")
    made = [next_digest(BEGINNING, replace(first, act=a, subject=b)) for a, b in pairwise([*texts, "", *texts])]
    assert len(set(made)) == len({pair for pair in pairwise([*texts, "", *texts])})
