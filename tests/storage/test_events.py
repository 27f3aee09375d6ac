"""Events: put in order after they were written, of one run's changes the last, forgotten after a while."""

from __future__ import annotations

from datetime import timedelta

from kinetrum.storage.db.database import execute
from kinetrum.storage.live import events
from kinetrum.storage.runs import run_documents, runs
from tests.storage.conftest import Place


def told_of(place: Place, after: int) -> list[events.Event]:
    """What is told of one project: runs of other tests may be lost meanwhile, and that is told too."""
    return [event for event in events.events_after(after, 1_000) if event.project_id == place.project_id]


def told(place: Place, after: int) -> list[tuple[str, str, str | None]]:
    return [(event.kind, event.subject, event.word) for event in told_of(place, after)]


def all_stamped() -> int:
    """Put in order what other tests left, so that only what follows is new."""
    while events.stamp():
        pass
    return events.last_stamp()


def test_of_a_runs_changes_the_last_is_told_and_of_acts_every_one(place: Place) -> None:
    run = place.run()
    before = all_stamped()
    for _ in range(3):
        runs.touch(run.run_id)
    events.tell_run(run.run_id, "output")
    events.tell_act(place.project_id, "frost-alarm", "promoted")
    events.tell_act(place.project_id, "frost-alarm", "promoted")
    assert told(place, before) == []
    assert events.stamp() >= 4
    assert sorted(told(place, before)) == sorted(
        [
            ("run", run.reference, "running"),
            ("output", run.reference, "running"),
            ("journal", "frost-alarm", "promoted"),
            ("journal", "frost-alarm", "promoted"),
        ]
    )
    after = events.last_stamp()
    events.stamp()
    assert told(place, after) == []


def test_stamps_grow_by_one_and_a_cursor_goes_on_behind_its_event(place: Place) -> None:
    before = all_stamped()
    for act in ("a", "b", "c"):
        events.tell_act(place.project_id, "x", act)
        events.stamp()
    every = events.events_after(before, 1_000)
    assert [event.stamp for event in every] == [before + 1 + index for index in range(len(every))]
    assert events.events_after(before, 2) == every[:2]
    assert events.last_stamp() == every[-1].stamp
    found = told_of(place, before)
    assert [event.word for event in found] == ["a", "b", "c"]
    assert [event.word for event in told_of(place, found[0].stamp)] == ["b", "c"]


def test_old_events_are_forgotten_and_new_ones_stay(place: Place) -> None:
    before = all_stamped()
    events.tell_act(place.project_id, "x", "old")
    execute("UPDATE event SET at = at - INTERVAL 2 DAY WHERE word = 'old'")
    events.tell_act(place.project_id, "x", "new")
    events.stamp()
    assert events.forget_events(timedelta(days=1)) >= 1
    assert [event.word for event in told_of(place, before)] == ["new"]
    assert events.first_stamp() <= before + 2


def test_every_way_of_changing_a_run_is_told(place: Place) -> None:
    run = place.run()
    for change in (
        lambda: runs.rename(run.run_id, "other"),
        lambda: runs.set_binned(run.run_id, place.person_id),
        lambda: runs.set_binned(run.run_id, None),
        lambda: runs.set_ending(run.run_id, "finished", None, run.started_at),
        lambda: runs.set_running_again(run.run_id, run.started_at),
        lambda: run_documents.save_doc(run, run_documents.lock_doc(run.run_id), {}),
    ):
        before = all_stamped()
        change()
        events.stamp()
        assert ("run", run.reference) in [(kind, subject) for kind, subject, _ in told(place, before)]
    before = all_stamped()
    runs.sign_of_life(run.run_id)
    events.stamp()
    assert told(place, before) == []


def test_a_lost_run_that_gives_a_sign_comes_back_and_is_told(place: Place) -> None:
    run = place.run()
    execute("UPDATE run SET last_sign_at = last_sign_at - INTERVAL 1 HOUR WHERE run_id = %s", run.run_id)
    assert runs.mark_lost(run.run_id)
    before = all_stamped()
    runs.sign_of_life(run.run_id)
    events.stamp()
    assert sorted(told(place, before)) == [("journal", run.subject, "came back"), ("run", run.reference, "running")]
    assert runs.run_by_id(run.run_id).status == "running"
