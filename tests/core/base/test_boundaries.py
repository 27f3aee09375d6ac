"""Both sides of bounds that nothing else meets: every change of the rules that anybody could see is seen by a test."""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np
import onnx
import pandas
import pytest
from scipy import stats

from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.points.columns import points_of
from kinetrum.core.points.stats import stats_of
from kinetrum.core.points.together import band_of
from kinetrum.core.query.check import settle
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stay, roll_back
from kinetrum.core.registry.reading import can_be, read_signature
from kinetrum.core.registry.review import Review, Standing
from kinetrum.core.registry.signature import FIELDS_LIMIT, SignatureField, signature_from_json, signature_of_sample
from kinetrum.core.statistics.noise.difference import differences_at_once
from kinetrum.core.statistics.noise.dunnett import vary_alike
from kinetrum.core.statistics.noise.losses import mean_interval
from kinetrum.core.statistics.noise.measures import compare_classes, is_known
from tests.core.query.test_query import Orchard

# Noise


def test_of_many_the_ones_beyond_noise_need_no_more_runs_and_all_say_their_confidence() -> None:
    chance = np.random.default_rng(4)
    baseline = chance.normal(size=8)
    found = differences_at_once([chance.normal(size=8) + 9, chance.normal(size=8)], baseline, confidence=0.9)
    assert found is not None
    assert [(one.beyond, one.needed is None, one.confidence) for one in found] == [
        (True, True, 0.9),
        (False, False, 0.9),
    ]


def test_groups_without_any_spread_are_told_by_that_alone() -> None:
    spread = np.array([0.0, 0.2, 0.4, 0.7, 1.0])
    assert vary_alike([spread, spread + 3], spread)
    assert not vary_alike([spread, np.ones(5)], spread)


@pytest.mark.parametrize(("times", "alike"), [(1.249, True), (1.251, False)])
def test_a_baseline_is_no_noisier_than_agreed(times: float, alike: bool) -> None:
    """With two other groups of one shape the shared deviation follows from the baseline's own."""
    shape = np.array([-2.0, -1.0, 0.0, 1.0, 2.0])
    # shared² = (2 + factor²) / 3 deviations², and factor = times * shared.
    factor = np.sqrt(2 * times**2 / (3 - times**2))
    assert vary_alike([shape, shape], shape * factor) is alike


def test_signs_are_counted_where_a_count_meets_the_confidence_exactly() -> None:
    found = mean_interval(np.array([1.0, 1.1, 1.2, 1.3, 1.4, 1.5]), 0.9375)
    assert found is not None
    # 2 of 64 flips at either end: the second lowest mean of a subset is that of 1.0 and 1.1.
    assert found.low == pytest.approx(min(1.05, found.low))
    shallow = mean_interval(np.array([1.0, 1.1, 1.2, 1.3, 1.4, 1.5]), 0.96875)
    assert shallow is not None and shallow.low == pytest.approx(min(1.0, shallow.low))


def test_differences_without_skewness_have_students_interval() -> None:
    differences = 0.3 + np.tile([-1.0, 1.0], 20)
    found = mean_interval(differences, 0.95)
    wanted = stats.ttest_1samp(differences, 0).confidence_interval(0.95)
    assert found is not None
    assert (found.low, found.high) == pytest.approx((wanted.low, wanted.high))


def test_nothing_known_is_still_a_column_of_yes_and_no() -> None:
    assert is_known([]).dtype == bool


def test_a_measure_that_either_model_lacks_is_left_out() -> None:
    truth = np.array([True, True, False, False] * 50, dtype=object)
    never = np.full(200, False, dtype=object)
    for left, right in ((truth, never), (never, truth)):
        assert not {"precision", "mcc"} & {one.measure for one in compare_classes(truth, left, right, True)}


# Points


def test_points_of_anything_have_the_types_that_are_kept() -> None:
    found = points_of(np.array([1], np.int32), np.array([2.0]), [3])
    assert (found.steps.dtype, found.times.dtype, found.values.dtype) == (np.int64, np.int64, np.float64)


def test_sums_beyond_all_numbers_are_no_warning() -> None:
    assert stats_of(points_of([0, 1], [0, 0], [1.7e308, 1.7e308])).count == 2


@pytest.mark.parametrize("values", [[], [np.nan]])
def test_a_band_of_nothing_is_empty(values: Sequence[float]) -> None:
    found = band_of([points_of(range(len(values)), range(len(values)), values)], 10)
    assert (len(found.steps), found.steps.dtype, found.runs.dtype) == (0, np.int64, np.int64)


# Queries


class LongNames(Orchard):
    """Names that are much longer than what people write of them."""

    def names(self) -> Sequence[str]:
        return [f"validation_precision_of_{kind}_nights" for kind in ("Clear", "Foggy", "Rainy", "Windy")]


@pytest.mark.parametrize(
    ("written", "nearest"),
    [
        ("isi", "of_Clear_nights, validation_precision_of_Foggy_nights, validation_precision_of_Rainy_nights."),
        ("CLEAR", "of_Clear_nights."),
        ("clear", "of_Clear_nights."),
    ],
)
def test_a_piece_of_a_long_name_is_near_it(written: str, nearest: str) -> None:
    with pytest.raises(InvalidInput) as refused:
        settle(f"{written} = 1", LongNames())
    assert str(refused.value).endswith(f"Nearest: validation_precision_{nearest}")


def test_two_letters_are_near_nothing_that_merely_holds_them() -> None:
    with pytest.raises(InvalidInput, match=r"Nearest: id, commit\.$"):
        settle("ci = 1", LongNames())


# The registry


def test_a_stage_on_which_one_version_stood_twice_is_not_rolled_back() -> None:
    stack = (Stay(2, "Noor Adair", "14:02"), Stay(2, "Noor Adair", "15:02"))
    for review in (Review.APPROVED, Review.REJECTED):
        with pytest.raises(Conflict, match="that stood on production can stand there; promote one"):
            roll_back(stack, DEFAULT_LADDER[2], {2: Standing(2, review)}, 2, "frost-alarm")


def test_a_table_of_tensors_can_be_one_by_its_header() -> None:
    header = b'{"weight":{}}'
    head = struct.pack("<Q", len(header)) + header
    assert can_be("safetensors", head, len(head)) and can_be("safetensors", head[:9], len(head))
    assert not can_be("safetensors", head, len(head) - 1)
    assert not can_be("safetensors", head[:8], len(head))


def test_a_value_of_no_type_has_a_field_without_one() -> None:
    import io

    graph = onnx.helper.make_graph([], "g", [onnx.ValueInfoProto(name="x")], [])
    found = read_signature("onnx", io.BytesIO(onnx.helper.make_model(graph).SerializeToString()))
    assert found is not None and found.inputs == (SignatureField("x", "", ()),)


def test_as_many_fields_as_are_kept() -> None:
    def fields(count: int) -> dict[str, object]:
        return {
            "inputs": [{"name": f"x{at}", "type": "float64", "shape": [None]} for at in range(count)],
            "outputs": [],
        }

    assert len(signature_from_json(fields(FIELDS_LIMIT)).inputs) == FIELDS_LIMIT
    with pytest.raises(InvalidInput, match="up to 2,000 fields"):
        signature_from_json(fields(FIELDS_LIMIT + 1))


def test_a_single_column_is_no_table() -> None:
    assert signature_of_sample(pandas.Series([1.0, 2.0]), [1.0]).inputs[0].type == "float64"
