"""References."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.ids import id_bytes, id_text, uuid7
from kinetrum.core.base.refs import NameRef, RunRef, VersionRef, parse_ref


@pytest.mark.parametrize(
    ("text", "ref"),
    [
        ("frost-alarm/42", RunRef("frost-alarm", "42")),
        ("frost-alarm/last", RunRef("frost-alarm", "last")),
        ("frost-alarm/best:recall", RunRef("frost-alarm", "best:recall")),
        ("frost-alarm/best:val/loss", None),
        ("orchard/frost-alarm/42", RunRef("frost-alarm", "42", "orchard")),
        ("frost-alarm/42:model/net.onnx", RunRef("frost-alarm", "42", path="model/net.onnx")),
        ("frost-alarm/best:recall:net.onnx", RunRef("frost-alarm", "best:recall", path="net.onnx")),
        ("nights@3", VersionRef("nights", "3")),
        ("nights@latest", VersionRef("nights", "latest")),
        ("frost-alarm@production", VersionRef("frost-alarm", "production")),
        ("orchard/nights@3:2024/station-07.csv", VersionRef("nights", "3", "orchard", "2024/station-07.csv")),
        ("frost-alarm", NameRef("frost-alarm")),
        ("orchard/frost-alarm", NameRef("frost-alarm", "orchard")),
        ("0190a1b2c3", RunRef(None, "0190a1b2c3")),
        ("orchard/0190a1b2c3d4", RunRef(None, "0190a1b2c3d4", "orchard")),
    ],
)
def test_read(text: str, ref: object) -> None:
    if ref is None:
        with pytest.raises(InvalidInput):
            parse_ref(text)
    else:
        assert parse_ref(text) == ref


@pytest.mark.parametrize(
    "text",
    ["frost-alarm/42", "orchard/frost-alarm/best:recall", "nights@3:a/b.csv", "frost-alarm@lead", "orchard/nights"],
)
def test_written_as_read(text: str) -> None:
    assert str(parse_ref(text)) == text


@pytest.mark.parametrize(
    "text",
    ["", " a/1", "a/0", "a/-1", "A/1", "a/b/c/d", "@3", "a@", "a@3:", "a/1:", "a/best:", "last", "a/²", "a@b@c", "x:y"],
)
def test_refused(text: str) -> None:
    with pytest.raises(InvalidInput):
        parse_ref(text)


@given(st.text(max_size=40))
def test_nothing_else_is_ever_raised(text: str) -> None:
    try:
        parse_ref(text)
    except InvalidInput:
        pass


@given(st.integers(0, 2**48 - 1), st.binary(min_size=10, max_size=10))
def test_uuid7_is_valid_and_ordered_by_time(milliseconds: int, random: bytes) -> None:
    import uuid

    text = uuid7(milliseconds, random)
    found = uuid.UUID(text)
    assert found.version == 7
    assert found.variant == uuid.RFC_4122
    assert found.int >> 80 == milliseconds
    assert id_text(id_bytes(text)) == text


@pytest.mark.parametrize("text", ["", "x", "0190a1b2", 5, None, "g" * 36, "0190a1b2c3d4e5f60190a1b2c3d4e5f6"])
def test_refused_ids(text: object) -> None:
    with pytest.raises(InvalidInput):
        id_bytes(text)
