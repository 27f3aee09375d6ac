"""Media: what is said of files is read back as it was said, and small pictures are made of whatever comes."""

from __future__ import annotations

import contextlib
import io
import json
import zlib
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PIL import Image

from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.media import Box, Item, Mask, items_of, kind_of, read_items, type_of, write_items
from kinetrum.core.media.thumbnails import make_thumbnail

texts = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), max_size=30)
sizes = st.floats(0, 1e6)
boxes = st.builds(Box, sizes, sizes, sizes, sizes, texts, st.none() | st.floats(-1, 1))
items = st.builds(
    Item,
    texts.filter(bool),
    texts,
    st.lists(boxes, max_size=3).map(tuple),
    st.lists(st.builds(Mask, texts, texts, st.dictionaries(st.integers(0, 255), texts, max_size=3)), max_size=2).map(
        tuple
    ),
)


@given(st.lists(items, max_size=4))
@settings(max_examples=60)
def test_items_are_read_back(given_items: list[Item]) -> None:
    text = write_items(given_items)
    if text is None:
        assert not any(item.caption or item.boxes or item.masks for item in given_items)
    else:
        assert read_items(text) == given_items


@given(
    st.recursive(
        st.none() | st.booleans() | st.floats() | st.text(max_size=5),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(
                st.sampled_from(["format", "items", "file", "boxes", "masks", "x", "classes", "label"]), inner
            )
        ),
        max_leaves=12,
    )
)
@example({"format": None, "file": "", "boxes": [None]})
@example({"format": None, "file": "", "boxes": ["1234"]})
@settings(max_examples=150)
def test_anything_else_is_refused_with_a_sentence(data: Any) -> None:
    for text in (
        json.dumps(data),
        json.dumps({"format": 1, "items": data}),
        json.dumps({"format": 1, "items": [data]}),
    ):
        with contextlib.suppress(KinetrumError):
            assert all(isinstance(item, Item) for item in read_items(text))


def test_masks_and_files_of_no_kind_are_no_items() -> None:
    said = write_items(
        [Item("b.png", "second", (), (Mask("truth", "b.mask1.png", {1: "frost"}),)), Item("gone.png", "x")]
    )
    found = items_of(["a.png", "b.mask1.png", "b.png", "items.json", "weights.bin", "notes.txt"], said)
    assert [item.file for item in found] == ["b.png", "a.png", "notes.txt"]


def test_kinds_and_types_by_name() -> None:
    assert [kind_of(name) for name in ("a/B.PNG", "x.wav", "x.webm", "x.md", "x.csv.gz", "x.svg", "x.html", "x")] == [
        "image",
        "sound",
        "video",
        "text",
        "table",
        None,
        None,
        None,
    ]
    assert [type_of(name) for name in ("x.mp4", "x.svg", "x.html", "x.csv", "x.png.gz")] == [
        "video/mp4",
        None,
        None,
        None,
        None,
    ]


def picture(mode: str, size: tuple[int, int], form: str = "PNG", **options: Any) -> io.BytesIO:
    raw = io.BytesIO()
    Image.new(mode, size).save(raw, form, **options)
    raw.seek(0)
    return raw


@pytest.mark.parametrize("mode", ["1", "L", "LA", "P", "RGB", "RGBA", "I;16"])
def test_small_pictures_of_every_mode(mode: str) -> None:
    made = make_thumbnail(picture(mode, (900, 30)), 320)
    assert made is not None
    found = Image.open(io.BytesIO(made))
    assert (found.format, found.size[0]) == ("WEBP", 320)


@pytest.mark.parametrize("form", ["JPEG", "GIF", "BMP", "WEBP"])
def test_small_pictures_of_every_form(form: str) -> None:
    made = make_thumbnail(picture("RGB", (20, 40), form), 320)
    assert made is not None
    assert Image.open(io.BytesIO(made)).size == (20, 40)


def bomb() -> bytes:
    """A PNG that says it has 40,000 x 40,000 pixels."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return len(data).to_bytes(4, "big") + kind + data + zlib.crc32(kind + data).to_bytes(4, "big")

    head = (40_000).to_bytes(4, "big") * 2 + b"\x08\x00\x00\x00\x00"
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(bytes(40_000_000)))
        + chunk(b"IEND", b"")
    )


@pytest.mark.parametrize(
    "raw",
    [
        b"",
        b"no picture",
        b"<svg xmlns='http://www.w3.org/2000/svg'><script>1</script></svg>",
        b"%!PS-Adobe-3.0 EPSF-3.0\n",
        picture("RGB", (50, 50)).getvalue()[:60],
        bomb(),
        picture("RGB", (9, 9), "TIFF").getvalue(),
    ],
    ids=["empty", "text", "svg", "postscript", "cut", "bomb", "tiff"],
)
def test_what_is_no_picture_gives_none(raw: bytes) -> None:
    assert make_thumbnail(io.BytesIO(raw), 320) is None


def test_a_box_says_what_it_lacks() -> None:
    with pytest.raises(InvalidInput, match="negative width"):
        read_items('{"format": 1, "items": [{"file": "a", "boxes": [{"x": 0, "y": 0, "width": -1, "height": 2}]}]}')
    with pytest.raises(InvalidInput, match=r"boxes\[0\] has 'w'"):
        read_items('{"format": 1, "items": [{"file": "a", "boxes": [{"x": 0, "w": 1}]}]}')
