"""The registry's sentences: gates and their outcomes, ladders, reviews, evidence, signatures, cards."""

from __future__ import annotations

import io
import json
import struct
from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import product
from typing import Any

import numpy as np

from kinetrum.core.base.permissions import Role
from kinetrum.core.registry import card, ladder
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
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stage, Stay
from kinetrum.core.registry.reading import can_be, form_with_signature, read_signature
from kinetrum.core.registry.review import Review, Standing
from kinetrum.core.registry.sentence import Judged, Placing, beside_sentence, review_sentence
from kinetrum.core.registry.signature import (
    Signature,
    SignatureField,
    incompatibilities,
    signature_from_json,
    signature_of_sample,
)
from kinetrum.core.registry.values import VersionValues
from kinetrum.core.statistics.noise.verdict import Interval, Outcome, RowsVerdict, verdict_of

Asked = Iterator[tuple[str, Callable[[], Any]]]
STAGES = ("staging", "production")


def rows(left: float, right: float, low: float, high: float, measure: str = "recall", **more: Any) -> RowsVerdict:
    verdict = verdict_of(measure, 1_200, (left, right), Interval(low, high, 0.97, "paired t"), 0.95, 1_200)
    return replace(verdict, **more)


FEW = verdict_of("recall", 40, (1.0, 0.25), None, 0.99, 3)
HELD = Evidence("u", "holdout", "a" * 64, {"recall": 0.95, "note": "fine"}, 1_000.0, True)
FACTS = Facts(
    2,
    1,
    VersionValues({"recall": 0.94, "loss": 0.1, "val": 0.3, "word": "x", "yes": True}, 56, {"val": 50}),
    {"holdout": HELD},
    lambda sections: [],
    [],
    True,
    "4f2a9c1",
    False,
    True,
)
OTHER = replace(FACTS, number=1)
GATES: list[tuple[Gate, Facts, Facts | None, RowsVerdict | str]] = [
    *(
        (Bound(value, on, least, most), FACTS, None, "")
        for value, on, least, most in (
            ("recall", "holdout", 0.95, None),
            ("recall", "holdout", 0.96, None),
            ("recall", None, None, 0.94),
            ("recall", None, None, 0.93),
            ("recall", None, 0.9, 0.95),
            ("val", None, None, 0.3),
            ("loss", None, 0.2, None),
            ("mae", None, None, 1.0),
            ("word", None, 1.0, None),
            ("yes", None, 1.0, None),
            ("note", "holdout", 1.0, None),
            ("recall", "spring", 0.5, 0.75),
            ("mae", "holdout", 0.5, None),
        )
    ),
    (Bound("recall", None, 0.1, None), replace(FACTS, values=VersionValues({})), None, ""),
    (
        Bound("recall", None, 0.1, None),
        replace(FACTS, values=VersionValues({str(at): at for at in range(12)})),
        None,
        "",
    ),
    (Bound("recall", None, 0.1, None), replace(FACTS, values=VersionValues({"recall": 0.5})), None, ""),
    (Bound("recall", "spring", 0.1, None), replace(FACTS, evidence={}), None, ""),
    (Bound("recall", "spring", 0.1, None), replace(FACTS, evidence={"b": HELD, "a": HELD, "c": HELD}), None, ""),
    (Bound("recall", "holdout", 0.1, None), replace(FACTS, evidence={"holdout": replace(HELD, data=None)}), None, ""),
    (
        Bound("recall", "holdout", 0.1, None, "any"),
        replace(FACTS, evidence={"holdout": replace(HELD, data=None)}),
        None,
        "",
    ),
    *(
        (Better("recall", "holdout", by, 0.95), FACTS, OTHER, verdict)
        for by in (0.0, 0.02)
        for verdict in (
            rows(0.95, 0.9, 0.03, 0.07),
            rows(0.95, 0.9, 0.02, 0.08),
            rows(0.95, 0.9, 0.0, 0.1),
            rows(0.95, 0.9, -0.01, 0.11),
            rows(0.85, 0.9, -0.09, -0.01),
            rows(0.95, 0.9, 0.03, 0.07, left_out=1_300),
            FEW,
            "mae is not judged here",
        )
    ),
    (Better("mae", "holdout", 0.0, 0.9999), FACTS, OTHER, rows(0.4, 0.5, -0.15, -0.05, "mae")),
    (Better("mae", "holdout", 0.0, 0.9999), FACTS, OTHER, rows(0.5, 0.4, 0.05, 0.15, "mae")),
    (Better("recall", "holdout", 0.0, 0.875), FACTS, OTHER, ""),
    (Card(("A", "B")), replace(FACTS, missing_sections=lambda sections: list(sections)), None, ""),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, None, ""),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, FACTS, ""),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, replace(FACTS, stands=False), ""),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, replace(OTHER, stands=False), rows(0.95, 0.9, 0.03, 0.07)),
    (Better("recall", "holdout", 0.0, 0.5), replace(FACTS, evidence={}), OTHER, ""),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, replace(OTHER, evidence={}), ""),
    (Better("recall", "holdout", 0.0, 0.5), replace(FACTS, evidence={"holdout": replace(HELD, rows=False)}), OTHER, ""),
    (
        Better("recall", "holdout", 0.0, 0.5),
        FACTS,
        replace(OTHER, evidence={"holdout": replace(HELD, data="b" * 64)}),
        "",
    ),
    (Better("recall", "holdout", 0.0, 0.5), FACTS, replace(OTHER, evidence={"holdout": replace(HELD, data=None)}), ""),
    (
        Better("recall", "holdout", 0.0, 0.5, "any"),
        FACTS,
        replace(OTHER, evidence={"holdout": replace(HELD, data=None)}),
        rows(0.95, 0.9, 0.03, 0.07),
    ),
    (
        Better("recall", "holdout", 0.0, 0.5, "any"),
        replace(FACTS, evidence={"holdout": replace(HELD, data=None)}),
        OTHER,
        rows(0.95, 0.9, 0.03, 0.07),
    ),
    *((Approvals(count), FACTS, None, "") for count in (1, 2)),
    *(
        (Card(sections), replace(FACTS, missing_sections=lambda sections, missing=missing: missing), None, "")
        for sections, missing in (
            (("Purpose",), []),
            (("Purpose", "Limits", "Use"), ["Limits"]),
            (("A", "B", "C"), ["A", "B", "C"]),
        )
    ),
    *(
        (HasSignature(compatible), replace(FACTS, incompatible=found), other, "")
        for compatible, found, other in product(
            (True, False), (None, [], ["input x is missing"], list("abcde")), (None, OTHER)
        )
    ),
    *(
        (Recorded(what), replace(FACTS, **changes), None, "")
        for what in (("data",), ("code",), ("committed",), ("data", "code", "committed"))
        for changes in (
            {},
            {"used_data": False},
            {"commit": None},
            {"uncommitted": True},
            {"untracked": ("a.py",)},
            {"untracked": tuple("abc")},
            {"untracked": tuple("abcd")},
            {"from_run": False},
            {"untracked": tuple("abcdef"), "uncommitted": True, "used_data": False, "commit": None},
        )
    ),
    *(
        (
            Fresh("holdout", within, "60s" if within else ""),
            replace(FACTS, evidence={"holdout": replace(HELD, at_s=1_000 - age)}),
            None,
            "",
        )
        for within in (None, 60.0)
        for age in (
            -5,
            0,
            59,
            60,
            61,
            119,
            120,
            3_599,
            3_600,
            7_199,
            7_200,
            86_399,
            86_400,
            172_799,
            172_800,
            1_000_000,
        )
    ),
    (Fresh("spring", 60.0, "60s"), FACTS, None, ""),
    (Fresh("holdout", None, ""), replace(FACTS, evidence={"holdout": replace(HELD, data=None)}), None, ""),
]


def checks() -> Asked:
    for gate, candidate, occupant, verdict in GATES:

        def ask(
            gate: Gate = gate, candidate: Facts = candidate, occupant: Facts | None = occupant, verdict: Any = verdict
        ) -> Any:
            return check_gates(
                [gate],
                candidate,
                occupant,
                lambda on, value, confidence: verdict or f"asked for {value} on {on} at {confidence}",
                1_000.0,
            )[0]

        yield f"{gate}", ask


TOML = [
    "",
    "x = ",
    "[nowhere]\napprovals = 1",
    "staging = 3",
    "[staging]\nspeed = 1",
    "[staging]\napprovals = 0",
    "[staging]\napprovals = 1",
    "[staging]\napprovals = 20",
    "[staging]\napprovals = 21",
    "[staging]\napprovals = true",
    '[staging]\napprovals = "1"',
    "[staging]\ncard = []",
    '[staging]\ncard = ["A", "B", "A"]',
    '[staging]\ncard = "A"',
    '[staging]\ncard = [" "]',
    "[staging]\ncard = [3]",
    '[staging]\nsignature = "present"',
    '[staging]\nsignature = "compatible"',
    '[staging]\nsignature = "yes"',
    '[staging]\nrecorded = ["data", "code", "committed"]',
    '[staging]\nrecorded = ["date"]',
    "[staging]\nrecorded = []",
    '[staging]\nrecorded = "data"',
    "[staging]\nbound = 3",
    "[staging]\nbound = [3]",
    *(
        f"[[staging.bound]]\n{text}"
        for text in (
            "",
            'value = "r"',
            'value = "r"\nat_least = 1',
            'value = "r"\nat_most = 1',
            'value = "r"\nat_least = 1\nat_most = 1',
            'value = "r"\nat_least = 1.5\nat_most = 1',
            'value = "r"\non = "h"\nat_least = 1',
            'value = "r"\non = ""\nat_least = 1',
            "at_least = 1",
            "value = 3\nat_least = 1",
            'value = " "\nat_least = 1',
            'value = "r"\nat_least = "x"',
            'value = "r"\nat_least = true',
            'value = "r"\nat_least = 1\nat_mots = 2',
            'value = "r"\nat_least = 1\nfingerprint = "any"',
            'value = "r"\nat_least = 1\nfingerprint = "recorded"',
            'value = "r"\nat_least = 1\nfingerprint = 3',
            'value = "r"\nat_least = nan',
            'value = "r"\nat_least = inf',
        )
    ),
    *(
        f"[[staging.better]]\n{text}"
        for text in (
            "",
            'value = "r"',
            'on = "h"',
            'value = "r"\non = "h"',
            'value = "r"\non = "h"\nby = 0',
            'value = "r"\non = "h"\nby = -0.1',
            'value = "r"\non = "h"\nby = 0.25',
            *(
                f'value = "r"\non = "h"\nconfidence = {one}'
                for one in ("0.5", "0.4999", "0.9999", "0.99991", "1", '"high"')
            ),
            'value = "r"\non = "h"\nfingerprint = "any"',
            'value = "r"\non = "h"\nwithin = "3d"',
        )
    ),
    *(
        f"[[staging.evidence]]\n{text}"
        for text in (
            "",
            'on = "h"',
            *(
                f'on = "h"\nwithin = "{one}"'
                for one in ("30m", "12h", "7d", "2w", "1.5d", "d", "3x", "-3d", "3", " 3d", "3dd", "3d3")
            ),
            'on = "h"\nwithin = 3',
            'on = "h"\nfingerprint = "any"',
            "on = 3",
        )
    ),
    '[staging]\napprovals = 2\n\n[[staging.evidence]]\non = "a"\n\n[[staging.better]]\nvalue = "r"\non = "b"\n\n[[staging.bound]]\nvalue = "r"\nat_most = 3\n\n[production]\nsignature = "present"',
    "\n".join('[[staging.evidence]]\non = "h"' for _ in range(40)),
    "\n".join('[[staging.evidence]]\non = "h"' for _ in range(41)),
    "#" * 20_000,
    "#" * 20_001,
]


def gates() -> Asked:
    for text in TOML:
        shown = text if len(text) < 900 else f"{text[:30]} … {len(text)} characters"
        yield shown or "(nothing)", lambda text=text: read_gates(text, STAGES)
    for text in TOML:
        try:
            read = read_gates(text, STAGES)
        except Exception:
            continue
        if read and len(text) < 900:
            yield f"written again: {text}", lambda read=read: write_gates(read)


PEOPLE = [
    {},
    {"holdout": {"people": ["rex"]}},
    {"holdout": {"experiment": "nightly"}},
    {"holdout": {"people": [], "experiment": None}},
    {"holdout": {"people": None}},
    {"holdout": {"people": ["rex", "lea", "rex"], "experiment": "nightly"}},
    {"holdout": 3},
    {"holdout": {"who": 1}},
    {"": {"people": ["rex"]}},
    {"a\nb": {}},
    {"holdout": {"experiment": "No Name"}},
    {"holdout": {"people": ["p"] * 40}},
    {"holdout": {"people": ["p"] * 41}},
    {f"d{at}": {"people": ["rex"]} for at in range(41)},
]


def evidence() -> Asked:
    for held in PEOPLE:
        yield str(held)[:300], lambda held=held: read_rules(held)
    for held in PEOPLE[1:6]:
        for person, experiment in product(("rex", "dana"), ("nightly", "mine")):
            yield (
                f"{held} asked by {person} of {experiment}",
                lambda held=held, person=person, experiment=experiment: [
                    (rule.refusal(on, person, [experiment]), rule.to_json()) for on, rule in read_rules(held).items()
                ],
            )


STAY = (Stay(1, "Noor Adair", "2026-11-23T14:02:10.593441Z"), Stay(2), Stay(3, "Wren Okell", "yesterday"), Stay(1))
FIT = {number: Standing(number, Review.APPROVED) for number in range(1, 5)}
STANDINGS = [
    Standing(2, review, retired, damaged, approvals)
    for review, retired, damaged, approvals in product(Review, (False, True), (False, True), (0, 1))
]


def ladders() -> Asked:
    production, development = DEFAULT_LADDER[2], DEFAULT_LADDER[0]
    for stage, standing in product((production, development), STANDINGS):
        yield (
            f"obstacle on {stage.name}: {standing}",
            lambda stage=stage, standing=standing: ladder.obstacle(stage, standing),
        )
    for height, expect in product(range(4), (None, 1, 2, 3)):
        yield (
            f"{height} stays, {expect} expected",
            lambda height=height, expect=expect: ladder.check_expected(STAY[:height], expect, "m", "production"),
        )
        yield (
            f"demote {height} stays, {expect} expected",
            lambda height=height, expect=expect: ladder.demote(STAY[:height], production, expect, "m"),
        )
        yield (
            f"roll back {height} stays, {expect} expected",
            lambda height=height, expect=expect: ladder.roll_back(STAY[:height], production, FIT, expect, "m"),
        )
        for number in (1, 2, 4):
            yield (
                f"promote {number} on {height} stays, {expect} expected",
                lambda height=height, expect=expect, number=number: ladder.promote(
                    STAY[:height], production, Stay(number), FIT[number], expect, "m"
                ),
            )
    for standing in STANDINGS:
        yield (
            f"promote {standing}",
            lambda standing=standing: ladder.promote((), production, Stay(2), standing, None, "m"),
        )
        yield (
            f"roll back to {standing}",
            lambda standing=standing: ladder.roll_back(STAY[1:3], production, {**FIT, 2: standing}, 3, "m"),
        )
        yield (
            f"lead with {standing}",
            lambda standing=standing: ladder.lead_of(
                None, DEFAULT_LADDER, {"staging": STAY[1:2]}, {**FIT, 2: standing}, "m"
            ),
        )
    yield (
        "roll back past two that cannot stand",
        lambda: ladder.roll_back(
            STAY,
            production,
            {1: FIT[1], 2: Standing(2, Review.REJECTED), 3: Standing(3, Review.APPROVED, retired=True)},
            1,
            "m",
        ),
    )
    for stages in (
        [],
        DEFAULT_LADDER[:1],
        [Stage(f"s{at}", True, Role.VIEWER) for at in range(12)],
        [Stage(f"s{at}", True, Role.VIEWER) for at in range(13)],
        [DEFAULT_LADDER[0]] * 2,
        [Stage("Wrong", True, Role.VIEWER)],
    ):
        yield f"a ladder of {[stage.name for stage in stages]}", lambda stages=stages: len(ladder.make_ladder(stages))
    for names in (("staging", "production"), ("development", "staging"), ("production",)):
        kept = [stage for stage in DEFAULT_LADDER if stage.name in names]
        yield (
            f"{names} left, production occupied",
            lambda kept=kept: [
                one.name for one in ladder.change_ladder(DEFAULT_LADDER, kept, {"production": STAY[:2]}, "m")
            ],
        )
    for name in ("staging", "prod"):
        yield f"the stage {name}", lambda name=name: ladder.find_stage(DEFAULT_LADDER, name, "m")
    yield "lead of nothing", lambda: ladder.lead_of(None, DEFAULT_LADDER, {"staging": ()}, FIT, "m")
    yield (
        "lead of the highest",
        lambda: ladder.lead_of(None, DEFAULT_LADDER, {"staging": STAY[:2], "production": STAY[:1]}, FIT, "m"),
    )
    yield "lead chosen", lambda: ladder.lead_of(Stay(3), DEFAULT_LADDER, {"production": STAY[:1]}, FIT, "m")


MET, UNMET = (
    GateCheck("approvals", "2 approvals", True, "it has 2"),
    GateCheck("card", "the card's sections A", False, "A is not written yet"),
)
ON = [
    Judged(
        "holdout",
        [rows(0.95, 0.9, 0.03, 0.07), rows(0.4, 0.5, -0.15, -0.05, "mae"), rows(0.85, 0.9, -0.2, -0.01, "precision")],
    ),
    Judged("spring", [rows(0.8, 0.8, -0.1, 0.1), replace(FEW, measure="f1"), rows(0.6, 0.9, -0.5, -0.1, "accuracy")]),
    Judged("dim", [rows(0.8, 0.75, -0.05, 0.15), replace(FEW, measure="f1")]),
    Judged("flat", [rows(0.9, 0.9, 0.0, 0.0, "f1"), rows(0.95, 0.9, 0.05, 0.05, "mcc")]),
]


def sentences() -> Asked:
    judged: list[list[Judged]] = [[], ON[:1], ON[1:2], ON[2:3], ON[3:], ON]
    for held, goes_by in product(judged, ((), ("precision",), ("f1", "recall"), ("recall",), ("mae",), ("nothing",))):
        said = f"{[one.on for one in held]} by {goes_by}"
        yield f"beside, {said}", lambda held=held, goes_by=goes_by: beside_sentence(5, 3, held, goes_by)
        yield (
            f"review, {said}",
            lambda held=held, goes_by=goes_by: review_sentence(Placing(5, "production", 3, None), [], held, goes_by),
        )
    for occupant, obstacle, given, last in product(
        (None, 3, 5),
        (None, "version 5 is pending"),
        ([], [MET], [UNMET], [MET, MET], [UNMET, MET], [UNMET, UNMET]),
        (None, 4),
    ):
        yield (
            f"occupant {occupant}, {obstacle}, {[one.met for one in given]}, last {last}",
            lambda occupant=occupant, obstacle=obstacle, given=given, last=last: review_sentence(
                Placing(5, "production", occupant, obstacle, last), given, []
            ),
        )


READINGS, FROST = SignatureField("readings", "float32", ("rows", 12)), SignatureField("frost", "int64", (None,))
SIDES = [
    (),
    (READINGS,),
    (SignatureField("readings", "float64", ("rows", 12)),),
    (SignatureField("readings", "float32", ("rows", 13)),),
    (SignatureField("readings", "float32", (None, None)),),
    (SignatureField("readings", "float32", (4, 12)),),
    (SignatureField("readings", "float32", ("rows",)),),
    (SignatureField("nights", "float32", ("rows", 12)),),
    (READINGS, FROST),
]
JSON: list[Any] = [
    {},
    {"inputs": 3},
    {"inputs": [3]},
    {"inputs": [{"name": "x"}]},
    {"inputs": [{"name": "x", "type": "f"}]},
    {"inputs": [{"name": "x", "type": "f", "shape": [1.5]}]},
    {"inputs": [{"name": 3, "type": "f", "shape": []}]},
    {"inputs": [{"name": "x", "type": 3, "shape": []}]},
    {"inputs": [{"name": "x", "type": "f", "shape": 3}]},
    {"inputs": [{"name": "x", "type": "f", "shape": [None, 3, "rows", True]}]},
    {"inputs": [{"name": "x", "type": "f", "shape": [None, 3, "rows"]}]},
    {"inputs": [], "outputs": [{"name": "y", "type": "f", "shape": [2]}], "source": "onnx"},
    {"inputs": [{"name": "x", "type": "f", "shape": []}] * 1_001},
    {"inputs": [], "outputs": 3},
    {"inputs": [{"name": "x", "type": "f", "shape": [-1]}]},
    {"inputs": [], "source": "word"},
    {"inputs": [{"name": "x", "type": "f", "shape": []}] * 1_000, "outputs": []},
    {"inputs": [{"name": "n" * 260, "type": "t" * 50, "shape": [1] * 20}], "outputs": []},
]


def graph(*inputs: Any, outputs: tuple[Any, ...] = ()) -> io.BytesIO:
    """An ONNX graph that reckons nothing, of inputs and outputs as given."""
    from onnx import helper

    made = helper.make_graph([], "empty", list(inputs), list(outputs))
    return io.BytesIO(helper.make_model(made).SerializeToString())


def graphs() -> Asked:
    from onnx import TensorProto, helper

    tensor, sequence = helper.make_tensor_value_info, helper.make_tensor_sequence_value_info
    kinds = (
        TensorProto.FLOAT,
        TensorProto.DOUBLE,
        TensorProto.INT64,
        TensorProto.STRING,
        TensorProto.BOOL,
        TensorProto.BFLOAT16,
        TensorProto.COMPLEX64,
        TensorProto.UINT4,
    )
    for kind in kinds:
        yield (
            f"a graph of {kind}",
            lambda kind=kind: read_signature(
                "onnx", graph(tensor("x", kind, ["rows", 3, None]), outputs=(tensor("y", kind, []),))
            ),
        )
    yield "a graph of a sequence", lambda: read_signature("onnx", graph(sequence("x", TensorProto.FLOAT, None)))
    yield "a graph without outputs", lambda: read_signature("onnx", graph(tensor("x", TensorProto.FLOAT, [1])))
    yield (
        "a graph without inputs",
        lambda: read_signature("onnx", graph(outputs=(tensor("y", TensorProto.FLOAT, [1]),))),
    )
    yield "a graph of nothing", lambda: read_signature("onnx", graph())


def signatures() -> Asked:
    for new, old in product(SIDES, SIDES):
        yield (
            f"{[one.text() for one in new]} in the place of {[one.text() for one in old]}",
            lambda new=new, old=old: (
                incompatibilities(Signature(new, (), "sample"), Signature(old, (), "onnx")),
                incompatibilities(Signature((), new, "sample"), Signature((), old, "onnx")),
            ),
        )
    for held in JSON:
        yield str(held)[:200], lambda held=held: signature_from_json(held)
    yield "as JSON", lambda: Signature((READINGS,), (FROST,), "onnx").to_json()
    for at, sample in enumerate(
        (
            3,
            "text",
            [[1, 2], [3]],
            np.zeros((2, 3)),
            np.array(["a"]),
            [1.5],
            {"x": np.zeros((4, 2)), "n": ["a"]},
            np.array(3.0),
            object(),
            {},
        )
    ):
        yield (
            f"sample {at} {type(sample).__name__}",
            lambda sample=sample: (
                signature_of_sample(sample),
                signature_of_sample(sample, np.zeros((1, 4), np.float32)),
            ),
        )
    for path in ("a/net.ONNX", "w.safetensors", "net.pkl", "onnx", "x.onnx.gz", "net.v2.onnx", "net.v2.3.safetensors"):
        yield path, lambda path=path: form_with_signature(path)
    for form, head, size in product(
        ("onnx", "safetensors"),
        (
            b"",
            b"\x08",
            b"\x0a",
            *(struct.pack("<Q", length) + tail for length in (1, 2, 92, 93, 100_000_001) for tail in (b"{", b"[", b"")),
        ),
        (5, 100),
    ):
        yield f"{form} {head.hex()} of {size}", lambda form=form, head=head, size=size: can_be(form, head, size)
    field = json.dumps([{"name": "x", "type": "float32", "shape": [None, 4]}])
    for about in (
        {},
        {"inputs": field},
        {"outputs": field},
        {"inputs": field, "outputs": field},
        {"inputs": "no json"},
        {"inputs": "{}"},
        {"inputs": "[3]"},
        3,
        None,
    ):
        head = json.dumps({"__metadata__": about} if about is not None else {}).encode()
        yield (
            f"safetensors that says {about}",
            lambda head=head: read_signature("safetensors", io.BytesIO(struct.pack("<Q", len(head)) + head)),
        )
    for raw in (
        b"",
        b"\xff" * 12,
        struct.pack("<Q", 4) + b"[1]\n",
        struct.pack("<Q", 3) + b"{{{",
        struct.pack("<Q", 400) + b"{}",
    ):
        yield f"safetensors of {raw.hex()}", lambda raw=raw: read_signature("safetensors", io.BytesIO(raw))


CARDS = [
    "",
    "## Purpose\nIt rings.",
    "# Frost\n\n## Purpose\nIt rings.\n\n### Deep\nMore.\n## Limits\n\n## Purpose\nTwice.\n",
    "```\n## Not a section\n```\n## One\nx\n",
    "##No space\nx\n",
    "Purpose\n-------\nIt rings.\n",
    card.OUTLINE,
    card.OUTLINE.replace("What the model is for", "It rings for"),
    "## purpose \n x ",
    "- ## in a list\n",
]


def cards() -> Asked:
    yield "the outline", lambda: card.OUTLINE
    for text in CARDS:
        yield (
            text or "(nothing)",
            lambda text=text: (
                card.sections_of(text),
                card.missing_sections(text, ["Purpose", "Limits", "purpose", "Deep", "One"]),
            ),
        )


TOPICS = {
    "gates-judged": checks,
    "gates-read": gates,
    "evidence": evidence,
    "ladders": ladders,
    "reviews": sentences,
    "signatures": signatures,
    "graphs": graphs,
    "cards": cards,
}
assert Outcome.BETTER
