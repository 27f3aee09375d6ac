"""Sealing: opened by whoever has the key, at the place that it was sealed for, and by nobody else."""

from __future__ import annotations

import pytest

from kinetrum.core.access.sealing import NotOpened, Seal
from kinetrum.core.access.sealing_keys import new_key, read_key

PLACE = "7/pipeline"
KEY = "c2l4dGVlbiBieXRlcyBhbmQgc2l4dGVlbiBtb3JlLi4="


@pytest.mark.parametrize("text", ["", "s", "Grüße 🍎", "x" * 4_000])
def test_what_is_sealed_is_opened(text: str) -> None:
    seal = Seal([new_key()])
    sealed = seal.seal(text, PLACE)
    assert seal.open(sealed, PLACE) == text
    assert len(text) < 4 or text.encode() not in sealed
    # A fresh nonce each time: the same secret twice does not look the same.
    assert seal.seal(text, PLACE) != sealed


def test_it_opens_nowhere_else() -> None:
    """Whoever may write to the database cannot make one project's secret another's."""
    seal = Seal([new_key()])
    sealed = seal.seal("s3cret", PLACE)
    for other in ("8/pipeline", "7/pipelin", "7/pipeline ", ""):
        with pytest.raises(NotOpened):
            seal.open(sealed, other)


def test_any_changed_byte_is_noticed() -> None:
    seal = Seal([new_key()])
    sealed = seal.seal("s3cret", PLACE)
    for at in range(len(sealed)):
        with pytest.raises(NotOpened):
            seal.open(sealed[:at] + bytes([sealed[at] ^ 1]) + sealed[at + 1 :], PLACE)
    for length in range(len(sealed)):
        with pytest.raises(NotOpened):
            seal.open(sealed[:length], PLACE)


def test_keys_follow_one_another() -> None:
    first, second = new_key(), new_key()
    old, both, new = Seal([first]), Seal([second, first]), Seal([second])
    sealed = old.seal("s3cret", PLACE)
    assert both.open(sealed, PLACE) == "s3cret"
    assert (old.is_latest(sealed), both.is_latest(sealed)) == (True, False)
    with pytest.raises(NotOpened):
        new.open(sealed, PLACE)
    renewed = both.seal(both.open(sealed, PLACE), PLACE)
    assert both.is_latest(renewed)
    assert new.open(renewed, PLACE) == "s3cret"
    with pytest.raises(NotOpened):
        old.open(renewed, PLACE)


@pytest.mark.parametrize("text", ["", "short", KEY[:-2], KEY + "A", "ä" * 44, KEY.replace("=", "")])
def test_what_is_no_key(text: str) -> None:
    with pytest.raises(ValueError, match="32 bytes in base64") as raised:
        read_key(text)
    assert len(read_key(KEY)) == 32
    # It is on its way into a log.
    assert not text or text not in str(raised.value)
    with pytest.raises(ValueError, match="key"):
        Seal([text])
    with pytest.raises(ValueError, match="no key"):
        Seal([])
