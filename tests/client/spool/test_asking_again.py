"""Who asks for another try gets one that began after asking, with what holds where it was asked."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from kinetrum.client.sender.routes import Obstructed, Routes
from kinetrum.client.spool import draining
from kinetrum.client.spool.destinations import Destination, keep_destination
from kinetrum.client.spool.draining import marks_of, wait_for
from kinetrum.client.spool.obstructions import (
    Obstruction,
    ask_again,
    asked_at,
    note_file,
    note_held,
    obstruction_of,
    read_note,
    write_note,
)
from kinetrum.client.transport.http import Service
from kinetrum.core.base.errors import Unavailable
from tests.support.programs import run_script
from tests.support.world import Project

CLOSED = "http://127.0.0.1:9"
SCRIPT = "import kinetrum\nkinetrum.begin('early', params={'a': 1}).end()"


@pytest.fixture
def routes(tmp_path: Path) -> Routes:
    return Routes(tmp_path, "records")


@pytest.mark.parametrize("asked", ["before the try", "during the try"])
def test_a_try_that_was_under_way_is_not_the_answer(routes: Routes, tmp_path: Path, asked: str) -> None:
    """With an authority named in the meantime, say: the try at hand knows nothing of it."""
    name = keep_destination(tmp_path, Destination(CLOSED, "t"))
    tries: list[str] = []

    def refuse(service: Service) -> None:
        tries.append(service.url)
        if asked == "during the try" and len(tries) == 1:
            ask_again(tmp_path)
        raise Unavailable("The certificate is not trusted.")

    if asked == "before the try":
        ask_again(tmp_path)
    for _ in range(4):
        with pytest.raises(Obstructed):
            routes.run(name, refuse)
    # The pause after a try is half a second at least, so a second try follows from having been asked alone.
    assert len(tries) == (2 if asked == "during the try" else 1)
    found = obstruction_of(tmp_path, name)
    assert found is not None
    assert found.tried_at > asked_at(tmp_path)


def test_settings_of_who_asks_hold_for_the_try_that_follows(
    routes: Routes, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    name = keep_destination(tmp_path, Destination(CLOSED, "t"))
    seen: list[str | None] = []
    monkeypatch.setenv("NO_PROXY", "of-who-asks")
    ask_again(tmp_path)
    monkeypatch.setenv("NO_PROXY", "of-the-sender")
    routes.run(name, lambda _: seen.append(os.environ.get("NO_PROXY")))
    assert seen == ["of-who-asks"]


def test_a_held_writer_was_tried_when_the_try_began(tmp_path: Path) -> None:
    note = tmp_path / "held.json"
    note_held(note, Unavailable("too large"), 1_000.0, 15.0)
    note_held(note, Unavailable("too large"), 2_000.0, 15.0)
    found = read_note(note)
    assert found is not None
    assert (found.kind, found.since, found.tried_at) == ("unavailable", 1_000.0, 2_000.0)
    assert found.next_try > time.time()


def test_a_wait_asks_once_where_the_first_try_was_anothers(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A sender that an earlier program started may know less than whoever waits."""
    root = tmp_path / "spool"
    run_script(SCRIPT, KINETRUM_SENDER="off", KINETRUM_URL=CLOSED)
    marks = marks_of(root, lambda *_: True)
    (name,) = marks[0].destinations
    rounds: list[float] = []

    def try_once(root: Path) -> None:
        rounds.append(asked_at(root))
        now = time.time()
        write_note(note_file(root, name, "records"), Obstruction("unavailable", f"{len(rounds)}", now, now, now + 9))

    monkeypatch.setattr(draining, "start_sender", try_once)
    left = wait_for(root, marks, 20, until_obstructed=True)
    assert left == marks
    # The first try failed without having been asked for, the second was asked for and is believed.
    assert len(rounds) == 2
    assert rounds[0] == 0.0 < rounds[1]
    assert left[0].obstruction() == obstruction_of(root, name)
