"""Gates asked for by a form: written into the TOML that is there, whatever the stage is called."""

from __future__ import annotations

import pytest

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.registry.gates import (
    KINDS,
    Approvals,
    Bound,
    Fresh,
    Gate,
    HasSignature,
    add_gate,
    read_gates,
)

LADDER = ["staging", "prod.eu", "production"]


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.kind)
@pytest.mark.parametrize("stage", LADDER)
def test_every_gate_is_asked_for_by_its_form(kind: type[Gate], stage: str) -> None:
    fields = {field.name: {"on": "holdout", "at_least": "0.9"}.get(field.name, field.first) for field in kind.form}
    written = add_gate("# ours\n", LADDER, stage, kind.kind, fields)
    (gate,) = read_gates(written, LADDER)[stage]
    assert isinstance(gate, kind)
    assert written.startswith("# ours\n")
    again = read_gates(add_gate(written, LADDER, stage, kind.kind, fields), LADDER)[stage]
    assert again == ((gate, gate) if kind.several else (gate,))


def test_one_more_gate_leaves_what_is_there_as_it_is() -> None:
    text = "[staging]\nsignature = 'present' # for now\n\n[[production.bound]]\nvalue = 'a'\nat_least = 1\n"
    more = add_gate(text, LADDER, "production", "approvals", {"approvals": "2"})
    assert "signature = 'present' # for now" in more
    assert read_gates(more, LADDER) == {
        "staging": (HasSignature(False),),
        "production": (Bound("a", None, 1.0, None), Approvals(2)),
    }
    changed = add_gate(more, LADDER, "production", "approvals", {"approvals": "3"})
    assert read_gates(changed, LADDER)["production"][1] == Approvals(3)
    # Evidence without the data it was judged on passes only where the gate says so; what is usual is not written.
    free = add_gate("", LADDER, "production", "evidence", {"on": "x", "within": "", "fingerprint": "any"})
    assert read_gates(free, LADDER)["production"] == (Fresh("x", None, "", "any"),)
    assert "fingerprint" not in add_gate("", LADDER, "production", "evidence", {"on": "x", "fingerprint": "recorded"})
    # A field that the form leaves empty is as the gate has it.
    assert read_gates(add_gate("", LADDER, "staging", "better", {"on": "x"}), LADDER)["staging"][0].by == 0.0


@pytest.mark.parametrize(
    ("stage", "kind", "fields", "said"),
    [
        ("nowhere", "bound", {}, "No stage is named 'nowhere'; the ladder is staging, prod.eu, production."),
        ("staging", "speed", {}, "Unknown gate 'speed'. Choose one of: bound, better"),
        ("staging", "bound", {"most": "1"}, "The gate bound has no field 'most'; it has value, on, at_least"),
        ("staging", "bound", {"at_least": "high"}, "at least is 'high'; write a number."),
        ("staging", "bound", {"at_least": "nan"}, "at least is 'nan'; write a number."),
        ("staging", "bound", {"at_least": "-inf"}, "at least is '-inf'; write a number."),
        ("staging", "bound", {"at_least": "1e309"}, "at least is '1e309'; write a number."),
        ("staging", "bound", {}, r"needs at_least or at_most"),
        ("staging", "signature", {"signature": "some"}, "Choose one of: present, compatible."),
        ("staging", "approvals", {"approvals": ""}, "a whole number from 1 to 20"),
        ("staging", "approvals", {"approvals": "21"}, "a whole number from 1 to 20"),
        ("staging", "recorded", {"recorded": "data, notes"}, 'a list of "data", "code", "committed"'),
        ("staging", "card", {"card": " , "}, "a list of section titles"),
    ],
)
def test_a_form_that_is_filled_in_wrongly_says_so(stage: str, kind: str, fields: dict[str, str], said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        add_gate("", LADDER, stage, kind, fields)


@pytest.mark.parametrize(
    ("typed", "written"),
    [
        ("2", "at_least = 2\n"),
        ("2.0", "at_least = 2.0\n"),
        ("9007199254740991", "at_least = 9007199254740991\n"),
        ("1e16", "at_least = 1e+16\n"),
        ("1e308", "at_least = 1e+308\n"),
    ],
)
def test_numbers_are_written_as_short_as_they_are_meant(typed: str, written: str) -> None:
    text = add_gate("", LADDER, "staging", "bound", {"value": "a", "at_least": typed})
    assert text.endswith(written)
    assert read_gates(text, LADDER)["staging"] == (Bound("a", None, float(typed), None),)


def test_gates_that_are_wrong_already_are_not_added_to() -> None:
    with pytest.raises(InvalidInput, match="This is not TOML"):
        add_gate("[staging", LADDER, "staging", "approvals", {})
