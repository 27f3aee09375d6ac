"""Gates: read from TOML and written again, judged on facts; cards, signatures, the review's first sentence."""

from __future__ import annotations

import io
import json
import struct
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import Conflict, InvalidInput
from kinetrum.core.base.permissions import Role
from kinetrum.core.registry.card import OUTLINE, missing_sections, sections_of
from kinetrum.core.registry.evidence import read_rules
from kinetrum.core.registry.gates import (
    Approvals,
    Better,
    Bound,
    Card,
    Evidence,
    Facts,
    Fresh,
    Gate,
    GateCheck,
    HasSignature,
    Recorded,
    check_gates,
    read_gates,
    write_gates,
)
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stage, Stay, change_ladder
from kinetrum.core.registry.reading import can_be, form_with_signature, read_signature
from kinetrum.core.registry.sentence import Judged, Placing, beside_sentence, review_sentence
from kinetrum.core.registry.signature import (
    Signature,
    SignatureField,
    incompatibilities,
    signature_from_json,
    signature_of_sample,
)
from kinetrum.core.registry.values import VersionValues, checkpoint_values
from kinetrum.core.rows.judging import judge_predictions
from kinetrum.core.statistics.noise.verdict import Interval, Outcome, RowsVerdict, verdict_of

STAGES = ["development", "staging", "production"]
WHOLE = """
[staging]
card = ["Purpose"]

[production]
approvals = 2
card = ["Purpose", "Limits"]
signature = "compatible"
recorded = ["data", "code", "committed"]

[[production.bound]]
value = "recall"
on = "holdout"
at_least = 0.9

[[production.better]]
value = "recall"
on = "holdout"
by = 0.01
confidence = 0.99

[[production.evidence]]
on = "holdout"
within = "30d"
"""


def test_gates_are_read_and_written_again() -> None:
    found = read_gates(WHOLE, STAGES)
    assert found["staging"] == (Card(("Purpose",)),)
    assert set(found["production"]) == {
        Bound("recall", "holdout", 0.9, None),
        Better("recall", "holdout", 0.01, 0.99),
        Fresh("holdout", 30 * 86_400.0, "30d"),
        Approvals(2),
        Card(("Purpose", "Limits")),
        HasSignature(True),
        Recorded(("data", "code", "committed")),
    }
    assert read_gates(write_gates(found), STAGES) == found
    assert read_gates("", STAGES) == {}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[production", "not TOML"),
        ("[prod]\napprovals = 1", "No stage is named 'prod'; the ladder is development"),
        ("production = 3", r"production must be a table, as in \[production\]"),
        (
            '[[production.better]]\nvalue = "r"\non = "h"\nfingerprint = "none"',
            r'fingerprint must be "recorded" or "any"',
        ),
        ("[production]\nspeed = 3", "production.speed is not a gate; the gates are approvals, better"),
        ("[production]\napprovals = 0", "production.approvals must be a whole number from 1 to 20"),
        ("[production]\napprovals = true", "production.approvals must be a whole number"),
        ('[production]\ncard = "Purpose"', "production.card must be a list of section titles"),
        ('[production]\nsignature = "fits"', 'production.signature must be "present" or "compatible"'),
        ('[production]\nrecorded = ["weather"]', 'production.recorded must be a list of "data"'),
        ("[production]\nbound = 3", r"production.bound must be tables, as in \[\[production.bound\]\]"),
        ('[[production.bound]]\nvalue = "recall"', r"production.bound\[0\] needs at_least or at_most"),
        ("[[production.bound]]\nat_least = 1", r"production.bound\[0\].value must be a text, as in value = \"recall\""),
        ('[[production.bound]]\nvalue = "r"\nat_least = 2\nat_most = 1', "met by nothing"),
        ('[[production.bound]]\nvalue = "r"\nat_least = "2"', r"production.bound\[0\].at_least must be a number"),
        ('[[production.bound]]\nvalue = "r"\nat_leest = 2\nat_most = 3', r"production.bound\[0\].at_leest is no key"),
        (
            '[[production.better]]\nvalue = "r"\non = "h"\nconfidence = 95',
            r"confidence must be a number from 0.5 to 0.9999",
        ),
        ('[[production.better]]\nvalue = "r"', r"production.better\[0\].on must be a text"),
        ('[[production.better]]\nvalue = "r"\non = "h"\nby = -1', r"by must be a number, 0 or more"),
        ('[[production.evidence]]\non = "h"\nwithin = "a month"', r"within must be a duration, as in \"12h\""),
        ("x" * 20_001, "up to 20,000 characters"),
    ],
)
def test_wrong_gates_say_where_and_what_would_be_right(text: str, said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        read_gates(text, STAGES)


words = st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=12).filter(
    lambda text: text.strip()
)
numbers = st.floats(-1e9, 1e9)
prints = st.sampled_from(["recorded", "any"])
gates = st.one_of(
    st.builds(Bound, words, st.none() | words, numbers, st.none(), prints),
    st.builds(Better, words, words, st.floats(0, 10), st.floats(0.5, 0.9999), prints),
    st.builds(lambda on, days: Fresh(on, days * 86_400.0, f"{days}d"), words, st.integers(1, 400)),
)


@given(st.lists(gates, max_size=6))
def test_any_gates_come_back_as_they_were(made: list[Gate]) -> None:
    ordered = tuple(sorted(made, key=lambda gate: ("Bound", "Better", "Fresh").index(type(gate).__name__)))
    assert read_gates(write_gates({"production": ordered}), STAGES) == {"production": ordered}


def facts(number: int, **changes: object) -> Facts:
    evidence = {"holdout": Evidence("u", "holdout", "a" * 64, {"recall": 0.95}, 1_000.0, True)}
    plain = Facts(
        number, 1, VersionValues({"recall": 0.94}), evidence, lambda sections: [], [], True, "4f2a9c1", False, True
    )
    return replace(plain, **changes)  # type: ignore[arg-type]


AT_STEP = VersionValues({"loss": 0.1, "val": 0.3}, 56, {"val": 50})
NO_PRINT = {"holdout": replace(facts(2).evidence["holdout"], data=None)}


def never(on: str, value: str, confidence: float) -> RowsVerdict | str:
    raise AssertionError("rows were asked for")


def outcome(
    gate: Gate, candidate: Facts, occupant: Facts | None = None, judge: object = never, now: float = 1_000.0
) -> GateCheck:
    (found,) = check_gates([gate], candidate, occupant, judge, now)  # type: ignore[arg-type]
    return found


@pytest.mark.parametrize(
    ("gate", "changes", "met", "found"),
    [
        (Bound("recall", "holdout", 0.95, None), {}, True, "0.95"),
        (Bound("recall", "holdout", 0.96, None), {}, False, "0.95"),
        (Bound("recall", None, None, 0.94), {}, True, "0.94"),
        (Bound("recall", None, None, 0.93), {}, False, "0.94"),
        (Bound("mae", None, None, 1.0), {}, False, "no number for mae; it has recall"),
        (Bound("recall", "spring", 0.9, None), {}, False, "version 2 has no evidence on spring; it has holdout"),
        (Bound("recall", None, 0.1, None), {"values": VersionValues({"recall": float("nan")})}, False, "nan"),
        (Bound("recall", None, 0.1, None), {"values": VersionValues({"recall": "high"})}, False, "no number"),
        (Bound("loss", None, None, 0.2), {"values": AT_STEP}, True, "it is 0.1 at step 56"),
        (Bound("val", None, None, 0.2), {"values": AT_STEP}, False, "it is 0.3 at step 50, the latest before step 56"),
        (Bound("recall", "holdout", 0.9, 0.95), {}, True, "0.95"),
        (Bound("recall", "holdout", None, 0.9499), {}, False, "0.95"),
        # Evidence that does not say on which data counts where the gate takes any.
        (
            Bound("recall", "holdout", 0.9, None),
            {"evidence": NO_PRINT},
            False,
            "of version 2 on holdout has no fingerprint of the data",
        ),
        (Bound("recall", "holdout", 0.9, None, "any"), {"evidence": NO_PRINT}, True, "0.95"),
        (Fresh("holdout", None, ""), {"evidence": NO_PRINT}, False, 'fingerprint = "any"'),
        (Fresh("holdout", None, "", "any"), {"evidence": NO_PRINT}, True, "old"),
        (Recorded(("data",)), {"uncommitted": True, "untracked": ("train.py",), "commit": None}, True, "all of it"),
        (Recorded(("code",)), {"uncommitted": True, "untracked": ("train.py",)}, True, "all of it"),
        (
            Recorded(("committed",)),
            {"untracked": ("train.py",)},
            False,
            "no commit has train.py, which its run carried out",
        ),
        (Recorded(("committed",)), {"untracked": tuple("abcde")}, False, "no commit has a, b, c and 2 more"),
        (Recorded(("committed",)), {"untracked": tuple("abc")}, False, "no commit has a, b, c, which"),
        (Approvals(1), {}, True, "it has 1"),
        (Approvals(2), {}, False, "it has 1"),
        (Card(("Purpose",)), {}, True, "all are written"),
        (
            Card(("Purpose", "Limits")),
            {"missing_sections": lambda sections: ["Limits"]},
            False,
            "Limits is not written",
        ),
        (HasSignature(False), {}, True, "known"),
        (HasSignature(False), {"incompatible": None}, False, "not known"),
        (Recorded(("data", "code", "committed")), {}, True, "all of it"),
        (Recorded(("data",)), {"used_data": False}, False, "no data"),
        (Recorded(("code",)), {"commit": None}, False, "no commit"),
        (Recorded(("committed",)), {"uncommitted": True}, False, "uncommitted changes"),
        (Recorded(("code",)), {"from_run": False}, False, "no run made it"),
        (Fresh("holdout", 60.0, "1m"), {}, True, "less than a minute"),
        (Fresh("spring", None, ""), {}, False, "no evidence on spring"),
    ],
)
def test_a_gate_on_one_version(gate: Gate, changes: dict[str, object], met: bool, found: str) -> None:
    told = outcome(gate, facts(2, **changes))
    assert (told.met, found in told.found) == (met, True), told


@pytest.mark.parametrize(("age", "met"), [(59.9, True), (60.0, True), (60.1, False)])
def test_evidence_is_fresh_up_to_its_bound(age: float, met: bool) -> None:
    assert outcome(Fresh("holdout", 60.0, "1m"), facts(2), now=1_000.0 + age).met is met


def test_old_evidence_is_told_by_its_age() -> None:
    told = outcome(Fresh("holdout", 86_400.0, "1d"), facts(2), now=1_000.0 + 3 * 86_400)
    assert (told.met, told.found, told.asks) == (False, "it is 3 days old", "evidence on holdout not older than 1d")


BETTER = Better("recall", "holdout", 0.02, 0.95)


def rows_verdict(left: float, right: float, low: float, high: float, measure: str = "recall") -> RowsVerdict:
    return verdict_of(measure, 900, (left, right), Interval(low, high, 0.9, "paired t"), 0.95, 900)


@pytest.mark.parametrize(
    ("rows", "met", "said"),
    [
        (
            rows_verdict(0.95, 0.90, 0.03, 0.07),
            True,
            "+0.05 [+0.03, +0.07] over 900 rows (paired t), better beyond noise",
        ),
        (rows_verdict(0.95, 0.90, 0.021, 0.07), True, "better beyond noise"),
        # The whole gain lies above what is asked, not its middle alone; at the bound it does not.
        (rows_verdict(0.95, 0.90, 0.02, 0.07), False, "better beyond noise, but not by more than 0.02"),
        (rows_verdict(0.95, 0.90, 0.001, 0.1), False, "but not by more than 0.02"),
        (rows_verdict(0.95, 0.92, -0.01, 0.07), False, "within noise"),
        (rows_verdict(0.95, 0.92, 0.0, 0.06), False, "within noise"),
        (rows_verdict(0.85, 0.92, -0.10, -0.04), False, "worse beyond noise"),
        (rows_verdict(1.0, 1.1, -0.15, -0.05, "mae"), True, "+0.1 [+0.05, +0.15]"),
        (rows_verdict(1.1, 1.0, 0.05, 0.15, "mae"), False, "worse beyond noise"),
        (
            verdict_of("recall", 3, (1.0, 0.0), None, 0.95, 3),
            False,
            "3 rows are too few to tell; at least 6 are needed",
        ),
        (
            replace(rows_verdict(0.95, 0.90, 0.03, 0.07), left_out=100),
            False,
            "judged on 900 of the 1,000 rows of version 1 only",
        ),
        ("recall is not judged row by row", False, "not judged"),
    ],
)
def test_better_than_the_occupant(rows: RowsVerdict | str, met: bool, said: str) -> None:
    told = outcome(BETTER, facts(2), facts(1), lambda on, value, confidence: rows)
    assert (told.met, said in told.found) == (met, True), told
    assert told.asks == "better recall on holdout than the occupant by more than 0.02, beyond noise at 95 %"


def test_what_there_is_to_be_better_than() -> None:
    first = outcome(BETTER, facts(2), None)
    assert (first.met, first.found) == (True, "no version stood there yet: there is nothing to be better than")
    assert outcome(BETTER, facts(2), facts(2)).found == "it is the occupant"
    assert outcome(BETTER, facts(2), facts(2, stands=False)).found == "it stood there last"
    # An emptied stage does not forget.
    worse = rows_verdict(0.85, 0.92, -0.10, -0.04)
    told = outcome(BETTER, facts(2), facts(1, stands=False), lambda on, value, confidence: worse)
    assert (told.met, "0.85 against 0.92 of version 1, which stood there last" in told.found) == (False, True)
    for ours, theirs, whose in ((NO_PRINT, None, 2), (None, NO_PRINT, 1)):
        sides = (facts(2, **({"evidence": ours} if ours else {})), facts(1, **({"evidence": theirs} if theirs else {})))
        assert f"version {whose} on holdout has no fingerprint" in outcome(BETTER, *sides).found
        better = rows_verdict(0.95, 0.90, 0.03, 0.07)
        assert outcome(replace(BETTER, fingerprint="any"), *sides, lambda *asked, better=better: better).met
    without = {"holdout": replace(facts(1).evidence["holdout"], rows=False)}
    assert "version 1 has no predictions row by row" in outcome(BETTER, facts(2), facts(1, evidence=without)).found
    assert "version 1 has no evidence on holdout" in outcome(BETTER, facts(2), facts(1, evidence={})).found
    other = {"holdout": replace(facts(1).evidence["holdout"], data="b" * 64)}
    assert "different data named holdout" in outcome(BETTER, facts(2), facts(1, evidence=other)).found


def predictions(share_right: float, seed: int, rows: int = 1_500) -> pa.Table:
    chance, truth = np.random.default_rng(seed), np.random.default_rng(1).integers(0, 2, rows)
    right = chance.random(rows) < share_right
    return pa.table({"row": np.arange(rows), "truth": truth, "prediction": np.where(right, truth, 1 - truth)})


@pytest.mark.parametrize(("candidate", "met"), [(0.90, False), (0.96, True)])
def test_on_rows_of_a_world_where_the_truth_is_known(candidate: float, met: bool) -> None:
    told = judge_predictions(predictions(candidate, 7), predictions(0.90, 8), "row", 0.99)

    def judge(on: str, value: str, confidence: float) -> RowsVerdict | str:
        return next(one for one in told if one.measure == value)

    assert outcome(Better("recall", "holdout", 0.0, 0.99), facts(2), facts(1), judge).met is met


def test_a_higher_confidence_widens_the_interval() -> None:
    wide, narrow = (
        {one.measure: one for one in judge_predictions(predictions(0.93, 7), predictions(0.9, 8), "row", confidence)}
        for confidence in (0.999, 0.8)
    )
    for name in ("recall", "precision", "accuracy"):
        assert wide[name].low < narrow[name].low
        assert wide[name].high > narrow[name].high


READINGS = SignatureField("readings", "float32", (None, 12))


@pytest.mark.parametrize(
    ("inputs", "said"),
    [
        ((READINGS,), []),
        ((SignatureField("readings", "float32", ("rows", None)),), []),
        (
            (SignatureField("readings", "float64", (None, 12)),),
            ["input readings float32 [?, 12] became float64 [?, 12]"],
        ),
        (
            (SignatureField("readings", "float32", (None, 13)),),
            ["input readings float32 [?, 12] became float32 [?, 13]"],
        ),
        ((SignatureField("nights", "float32", (None, 12)),), ["input readings is missing", "input nights is new"]),
        ((READINGS, SignatureField("cloud", "float32", (None,))), ["input cloud is new"]),
    ],
)
def test_what_fits_in_the_place_of_another(inputs: Sequence[SignatureField], said: list[str]) -> None:
    old = Signature((READINGS,), (SignatureField("frost", "int64", (None,)),), "onnx")
    assert incompatibilities(Signature(tuple(inputs), old.outputs, "sample"), old) == said
    more = Signature(tuple(inputs), (*old.outputs, SignatureField("score", "float32", (None,))), "sample")
    assert incompatibilities(more, old) == said
    assert incompatibilities(Signature(tuple(inputs), (), "sample"), old) == [*said, "output frost is missing"]


def test_a_signature_from_a_sample_comes_back_from_json() -> None:
    pandas = pytest.importorskip("pandas")
    table = pandas.DataFrame({"minimum_c": [1.5, -2.0], "station": ["a", "b"], "cloud": [1, 2]})
    found = signature_of_sample(table, np.zeros((2, 3), np.float32))
    assert [one.text() for one in (*found.inputs, *found.outputs)] == [
        "minimum_c float64 [?]",
        f"station {table['station'].dtype} [?]",
        "cloud int64 [?]",
        "output float32 [?, 3]",
    ]
    assert signature_from_json(json.loads(json.dumps(found.to_json()))) == found
    named = signature_of_sample({"x": np.zeros((4, 2)), "names": ["a", "b"]})
    assert [one.text() for one in named.inputs] == ["x float64 [?, 2]", "names string [?]"]


@pytest.mark.parametrize("sample", [3, object(), np.array(3.0), [[1, 2], [3]]])
def test_what_is_no_sample(sample: object) -> None:
    with pytest.raises((InvalidInput, ValueError)):
        signature_of_sample(sample)


@pytest.mark.parametrize(
    "held", [{}, {"inputs": 3}, {"inputs": [{"name": "x"}]}, {"inputs": [{"name": "x", "type": "f", "shape": [1.5]}]}]
)
def test_what_is_no_signature(held: dict[str, object]) -> None:
    with pytest.raises(InvalidInput):
        signature_from_json(held)


def test_signatures_in_files() -> None:
    onnx = pytest.importorskip("onnx")
    helper, kinds = onnx.helper, onnx.TensorProto
    node = helper.make_node("Relu", ["readings"], ["frost"])
    graph = helper.make_graph(
        [node],
        "g",
        [helper.make_tensor_value_info("readings", kinds.FLOAT, ["rows", 12])],
        [helper.make_tensor_value_info("frost", kinds.FLOAT, [None, 12])],
    )
    found = read_signature("onnx", io.BytesIO(helper.make_model(graph).SerializeToString()))
    assert found == Signature(
        (SignatureField("readings", "float32", ("rows", 12)),),
        (SignatureField("frost", "float32", (None, 12)),),
        "onnx",
    )
    with pytest.raises(ValueError, match="not an ONNX"):
        read_signature("onnx", io.BytesIO(b"\xff\xff no model"))
    inputs = json.dumps([{"name": "x", "type": "float32", "shape": [None, 4]}])
    for about, expected in (({"inputs": inputs}, "x float32 [?, 4]"), ({}, None)):
        head = json.dumps({"__metadata__": about, "w": {"dtype": "F32", "shape": [1], "data_offsets": [0, 4]}}).encode()
        told = read_signature("safetensors", io.BytesIO(struct.pack("<Q", len(head)) + head + b"\0" * 4))
        assert (told.inputs[0].text() if told else None) == expected
    with pytest.raises(ValueError, match="length"):
        read_signature("safetensors", io.BytesIO(b"\xff" * 12))
    assert can_be("safetensors", struct.pack("<Q", 30) + b"{", 100)
    assert not can_be("safetensors", struct.pack("<Q", 300) + b"{", 100)
    assert not can_be("safetensors", b"short", 5)
    assert not can_be("onnx", b"no model", 8)
    assert can_be("onnx", helper.make_model(graph).SerializeToString()[:16], 100)
    assert [form_with_signature(path) for path in ("a/net.ONNX", "w.safetensors", "net.pkl")] == [
        "onnx",
        "safetensors",
        None,
    ]


def test_sections_of_a_card() -> None:
    card = "# Frost\n\n## Purpose\nRings the bell.\n\n## Limits\n\n### Snow\nNone.\n\n```\n## Data\n```\n\n## Use\n"
    assert sections_of(card)["Purpose"] == "Rings the bell."
    assert "Snow" in sections_of(card)["Limits"]
    assert missing_sections(card, ["purpose", "Limits", "Data", "Use"]) == ["Data", "Use"]
    # What the outline says is not what anybody wrote.
    assert missing_sections(OUTLINE, ["Purpose"]) == ["Purpose"]
    assert missing_sections(OUTLINE.replace("What the model is for", "It rings for"), ["Purpose"]) == []


def test_the_first_sentence_of_a_review() -> None:
    within = judge_predictions(predictions(0.9, 8), predictions(0.9, 8), "row")
    beyond = judge_predictions(predictions(0.97, 7), predictions(0.9, 8), "row")
    unmet = GateCheck("approvals", "2 approvals", False, "it has 1")
    said = review_sentence(
        Placing(4, "production", 3, None), [unmet, replace(unmet, met=True)], [Judged("holdout", within)]
    )
    assert said.startswith("Version 4 would replace version 3 on production: accuracy on holdout, 0.")
    assert said.endswith("within noise. 1 of 2 gates is not met: 2 approvals; it has 1.")
    told = review_sentence(Placing(5, "production", 3, None), [replace(unmet, met=True)], [Judged("holdout", beyond)])
    assert "better" in told
    assert told.endswith("beyond noise at 95 %. Its gate is met.")
    against = [replace(one, outcome=Outcome.WORSE) if one.measure == "precision" else one for one in beyond]
    named = review_sentence(
        Placing(5, "production", 3, None), [], [Judged("holdout", against)], ["recall", "precision"]
    )
    assert "better recall on holdout" in named
    assert named.endswith("beyond noise at 95 %; but worse precision. No gate is asked.")
    assert review_sentence(Placing(1, "staging", None, "version 1 is pending"), [], []) == (
        "Version 1 would be the first on staging. It cannot be placed there: version 1 is pending."
    )
    assert review_sentence(Placing(1, "staging", 1, None), [], []) == "Version 1 stands on staging."
    assert "no rows" in beside_sentence(2, 1, [])


def test_an_occupied_stage_is_not_removed() -> None:
    stacks = {"production": (Stay(3, "Noor Adair", ""),)}
    with pytest.raises(Conflict, match="production of m holds version 3; demote it before"):
        change_ladder(DEFAULT_LADDER, DEFAULT_LADDER[:2], stacks, "m")
    longer = change_ladder(DEFAULT_LADDER, (Stage("trial", False, Role.CONTRIBUTOR), *DEFAULT_LADDER), stacks, "m")
    assert [stage.name for stage in longer] == ["trial", *STAGES]
    assert change_ladder(DEFAULT_LADDER, DEFAULT_LADDER[:2], {}, "m") == DEFAULT_LADDER[:2]


def test_a_checkpoint_has_the_values_of_its_step() -> None:
    points = {"loss": (56, 0.1), "val": (50, 0.3)}
    found = checkpoint_values(56, points, ["loss", "val", "late"], {"test": 0.9, "loss": 0.05}, is_last=False)
    assert (dict(found.values), dict(found.earlier)) == ({"loss": 0.1, "val": 0.3}, {"val": 50})
    # A result of the whole run and a metric that began later say nothing of it.
    assert found.left_out == ("late", "test")
    assert (found.step_of("loss"), found.step_of("val"), VersionValues({}).step_of("loss")) == (56, 50, None)
    last = checkpoint_values(56, points, ["loss", "val"], {"test": 0.9, "val": 0.2}, is_last=True)
    assert (dict(last.values), dict(last.earlier), last.left_out) == ({"loss": 0.1, "val": 0.2, "test": 0.9}, {}, ())
    more = found.with_added({"val": 0.25, "late": 1.0, "price": 3})
    assert (more.values["val"], dict(more.earlier), more.left_out, more.step) == (0.25, {}, ("test",), 56)


RULE = {"people": ["rex", "lea", "rex"], "experiment": "nightly"}


@pytest.mark.parametrize(
    ("held", "person", "experiment", "refused"),
    [
        ({"people": ["rex"]}, "rex", "any", None),
        ({"people": ["rex"]}, "dana", "any", "added by rex alone, not by dana"),
        ({"experiment": "nightly"}, "dana", "nightly", None),
        ({"experiment": "nightly"}, "dana", "mine", "runs of nightly alone, not of mine"),
        (RULE, "lea", "nightly", None),
        (RULE, "lea", "mine", "of nightly alone"),
        (RULE, "dana", "nightly", "by rex or lea alone"),
    ],
)
def test_evidence_is_bound_to_people_and_experiments(
    held: dict, person: str, experiment: str, refused: str | None
) -> None:
    rule = read_rules({"holdout": held})["holdout"]
    told = rule.refusal("holdout", person, [experiment])
    assert (told is None) is (refused is None)
    assert refused is None or refused in (told or "")
    assert read_rules({"holdout": rule.to_json()}) == {"holdout": rule}
    # Under any name that the experiment has or had; what is told is the one that it has.
    assert rule.refusal("holdout", person, ["new", experiment]) is None or refused is not None
    if refused and "not of mine" in refused:
        assert "not of new" in (rule.refusal("holdout", person, ["new", experiment]) or "")


@pytest.mark.parametrize(
    "held",
    [
        {"a": 3},
        {"a": {"who": []}},
        {"": {}},
        {"a": {"experiment": "No Name"}},
        {"a": {"people": ["p"] * 41}},
        {str(at): {} for at in range(41)},
    ],
)
def test_what_is_no_rule_on_evidence(held: dict) -> None:
    with pytest.raises(InvalidInput):
        read_rules(held)


def test_a_rule_that_binds_to_nothing_is_none() -> None:
    assert read_rules({"a": {}, "b": {"people": []}, "c": {"experiment": None}}) == {}
    assert len(read_rules({str(at): {"people": ["p"]} for at in range(40)})) == 40
