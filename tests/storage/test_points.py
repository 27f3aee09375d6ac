"""Tail and chunks: any order, any repeats, the same series; reduced reading from rollups."""

import secrets

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kinetrum.actions.recording import intake
from kinetrum.core.points.codec import Group, encode_batch
from kinetrum.storage.db.database import query
from kinetrum.storage.people import projects
from kinetrum.storage.runs import point_reading, points
from tests.storage.conftest import Place


def batch(keys: tuple[str, ...], steps: list[int], times: list[int], values: list[float]) -> bytes:
    rows = np.tile(np.array(values, float), (len(keys), 1))
    return encode_batch([Group(keys, np.array(steps, np.int64), np.array(times, np.int64), rows)])


def append(run_id: int, body: bytes, uid: bytes | None = None) -> bool:
    return points.append_batch(run_id, uid or secrets.token_bytes(16), body, 1)


def test_points_are_read_before_and_after_compaction(place: Place) -> None:
    run = place.run()
    append(run.run_id, batch(("loss", "recall"), [0, 1, 2], [5, 6, 7], [3.0, 2.0, float("nan")]))
    before = point_reading.read_points(run.run_id, "loss")
    done = points.compact(run.run_id)
    after = point_reading.read_points(run.run_id, "loss")
    assert done is not None
    assert set(done.stats) == {"loss", "recall"}
    assert before.steps.tolist() == after.steps.tolist() == [0, 1, 2]
    assert before.values.view(np.uint64).tolist() == after.values.view(np.uint64).tolist()
    assert done.stats["loss"].nan_count == 1
    assert point_reading.metric_names(run.run_id) == ["loss", "recall"]
    assert points.compact(run.run_id) is None


def test_the_same_batch_again_changes_nothing(place: Place) -> None:
    run, uid = place.run(), secrets.token_bytes(16)
    body = batch(("loss",), [0, 1], [5, 6], [3.0, 2.0])
    assert append(run.run_id, body, uid)
    assert not append(run.run_id, body, uid)
    points.compact(run.run_id)
    append(run.run_id, body, uid)
    points.compact(run.run_id)
    assert point_reading.read_points(run.run_id, "loss").steps.tolist() == [0, 1]


def test_what_waits_is_known_by_project_up_to_a_batch(place: Place) -> None:
    run, idle = place.run(), place.run()
    project = projects.project_by_id(place.project_id).name
    assert points.latest_batches(project) == {}
    append(run.run_id, batch(("loss",), [0], [5], [3.0]))
    (latest,) = points.latest_batches(project).values()
    append(run.run_id, batch(("loss",), [1], [5], [3.0]))
    assert points.latest_batches(project)[run.run_id] > latest
    assert points.latest_batches("another") == {}
    assert idle.run_id not in (points.latest_batches(None).keys() | points.latest_batches(project).keys())
    assert points.is_waiting(run.run_id, latest) and not points.is_waiting(run.run_id, latest - 1)
    # Without any patience it is said of how many runs the answer will not hold all; with some there is none.
    assert intake.bring_up_to_date(project, patience_s=-1.0) == 1
    assert intake.bring_up_to_date(project) == 0
    assert points.latest_batches(project) == {} and not points.is_waiting(run.run_id, latest + 1)


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.tuples(st.integers(0, 60), st.integers(0, 3)), min_size=1, max_size=80, unique=True),
    st.randoms(use_true_random=False),
)
def test_order_of_arrival_does_not_matter(place: Place, monkeypatch_chunks: None, rows: list, random) -> None:
    found = []
    for _ in range(2):
        run = place.run()
        shuffled = list(rows)
        random.shuffle(shuffled)
        for at in range(0, len(shuffled), 9):
            part = shuffled[at : at + 9]
            body = batch(("loss",), [r[0] for r in part], [r[1] for r in part], [r[0] + r[1] / 8 for r in part])
            append(run.run_id, body)
            if random.random() < 0.5:
                points.compact(run.run_id)
            if random.random() < 0.3:
                append(run.run_id, body)
        while points.compact(run.run_id):
            pass
        series = point_reading.read_points(run.run_id, "loss")
        chunks = query(
            "SELECT c.first_step, c.last_step FROM point_chunk c JOIN series s USING (series_id) WHERE s.run_id = %s"
            " ORDER BY c.first_step",
            run.run_id,
        )
        for (_, last), (first, _) in zip(chunks, chunks[1:], strict=False):
            assert last < first
        found.append((series.steps.tolist(), series.times.tolist(), series.values.tolist()))
    assert found[0] == found[1]
    assert len(found[0][0]) == len(rows)


@pytest.fixture
def monkeypatch_chunks(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(points, "CHUNK_SIZE", 16)


def test_a_long_curve_is_reduced_without_losing_its_peak(place: Place) -> None:
    run = place.run()
    steps = np.arange(200_000)
    values = np.sin(steps / 9_000)
    values[123_456] = 50.0
    body = encode_batch([Group(("loss",), steps, steps + 10, values[None, :])])
    append(run.run_id, body)
    points.compact(run.run_id)
    curve = point_reading.read_curve(run.run_id, "loss", 500, None, None)
    assert len(curve) <= 1_002
    assert curve.values.max() == 50.0
    assert curve.steps[0] == 0
    near = point_reading.read_curve(run.run_id, "loss", 500, 123_400, 123_500)
    assert near.steps.tolist() == list(range(123_400, 123_501))
    # What arrived later and waits in the tail is on the curve at once.
    append(run.run_id, batch(("loss",), [200_000], [9], [99.0]))
    assert point_reading.read_curve(run.run_id, "loss", 500, None, None).values[-1] == 99.0


def test_a_repeated_step_keeps_both_points_and_shows_the_later(place: Place) -> None:
    run = place.run()
    append(run.run_id, batch(("loss",), [3], [20], [1.0]))
    append(run.run_id, batch(("loss",), [3], [10], [9.0]))
    done = points.compact(run.run_id)
    assert done is not None
    assert len(point_reading.read_points(run.run_id, "loss")) == 2
    assert point_reading.read_curve(run.run_id, "loss", 100, None, None).values.tolist() == [1.0]
    assert done.stats["loss"].count == 1
    assert done.stats["loss"].last == 1.0


def test_keys_differ_by_case_and_accent(place: Place) -> None:
    run = place.run()
    append(run.run_id, batch(("loss", "Loss", "löss"), [0], [1], [1.0]))
    points.compact(run.run_id)
    assert sorted(point_reading.metric_names(run.run_id)) == ["Loss", "loss", "löss"]
