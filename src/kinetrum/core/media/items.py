"""What is said of the files of a result: captions, boxes and masks, kept beside them as `items.json`.

The file is `{"format": 1, "items": [{"file": "001.png", "caption": "…", "boxes": [{"x": 4, "y": 8, "width": 20,
"height": 12, "label": "cloud", "score": 0.93}], "masks": [{"name": "truth", "file": "001.truth.png", "classes":
{"1": "cloud"}}]}]}`. Boxes are in pixels of the image, from its upper left corner; a mask is an image of one channel
with a class number for each pixel, 0 for none.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.values import to_json
from kinetrum.core.media.forms import kind_of

ITEMS_FILE = "items.json"
ITEMS_LIMIT, BOXES_LIMIT, MASKS_LIMIT, CLASSES_LIMIT = 1_000, 1_000, 10, 256
CAPTION_LIMIT, LABEL_LIMIT, ITEMS_BYTES = 2_000, 200, 16 * 1024 * 1024


@dataclass(frozen=True)
class Box:
    """A rectangle over an image, in its pixels from the upper left corner."""

    x: float
    y: float
    width: float
    height: float
    label: str = ""
    score: float | None = None


@dataclass(frozen=True)
class Mask:
    """A class for each pixel of an image, under a name such as truth or predicted; `classes` names the numbers."""

    name: str
    file: str
    classes: Mapping[int, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Item:
    """One file of a result and what is said of it."""

    file: str
    caption: str = ""
    boxes: tuple[Box, ...] = ()
    masks: tuple[Mask, ...] = ()


def write_items(items: Sequence[Item]) -> str | None:
    """Return items as the text of `items.json`, None where nothing is said beyond the files themselves."""
    if not any(item.caption or item.boxes or item.masks for item in items):
        return None
    return json.dumps({"format": 1, "items": [_plain(item) for item in items]}, ensure_ascii=False, indent=1)


def _plain(item: Item) -> dict[str, Any]:
    fields: dict[str, Any] = {"file": item.file}
    if item.caption:
        fields["caption"] = item.caption
    if item.boxes:
        fields["boxes"] = [
            {key: to_json(value) for key, value in vars(box).items() if value not in {None, ""}} for box in item.boxes
        ]
    if item.masks:
        fields["masks"] = [
            {"name": mask.name, "file": mask.file, "classes": {str(at): name for at, name in mask.classes.items()}}
            for mask in item.masks
        ]
    return fields


def read_items(text: str) -> list[Item]:
    """Read `items.json`; raises InvalidInput or TooLarge that names the item at fault."""
    if len(text) > ITEMS_BYTES:
        raise TooLarge(f"{ITEMS_FILE} has over {ITEMS_BYTES:,} characters.", field=ITEMS_FILE)
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise InvalidInput(f"{ITEMS_FILE} is not JSON ({error}).", field=ITEMS_FILE) from None
    listed = data.get("items") if isinstance(data, dict) and data.get("format") == 1 else None
    if not isinstance(listed, list):
        raise InvalidInput(f'{ITEMS_FILE} is an object with "format": 1 and a list of items.', field=ITEMS_FILE)
    if len(listed) > ITEMS_LIMIT:
        raise TooLarge(f"{ITEMS_FILE} has {len(listed)} items; up to {ITEMS_LIMIT} are shown.", field=ITEMS_FILE)
    return [_item(item, f"items[{at}]") for at, item in enumerate(listed)]


def items_of(paths: Sequence[str], text: str | None) -> list[Item]:
    """Return what the files of a version show, in the order in which `items.json` has them, then by path.

    Files that are masks of others, or of no kind that can be shown, are no items.
    """
    described = [item for item in (read_items(text) if text is not None else []) if item.file in set(paths)]
    behind = {item.file for item in described} | {mask.file for item in described for mask in item.masks}
    return described + [Item(path) for path in sorted(paths) if path not in behind and kind_of(path) is not None]


def make_box(box: Any, where: str) -> Box:
    """Return a box from four numbers (x, y, width, height) or a mapping with label and score; raises InvalidInput."""
    if not isinstance(box, Mapping):
        if isinstance(box, str) or not isinstance(box, Iterable):
            raise InvalidInput(
                f"{where} is {type(box).__name__}; a box is four numbers (x, y, width, height) or an object of them.",
                field=where,
            )
        box = dict(zip(("x", "y", "width", "height", "label", "score"), list(box), strict=False))
    odd = sorted(set(box) - {"x", "y", "width", "height", "label", "score"})
    if odd:
        raise InvalidInput(f"{where} has {odd[0]!r}; a box has x, y, width, height, label and score.", field=where)
    x, y, width, height = (_number(box.get(side), f"{where}.{side}") for side in ("x", "y", "width", "height"))
    if width < 0 or height < 0:
        raise InvalidInput(f"{where} has a negative width or height.", field=where)
    score = box.get("score")
    return Box(
        x,
        y,
        width,
        height,
        _text(box.get("label", ""), f"{where}.label", LABEL_LIMIT),
        None if score is None else _number(score, f"{where}.score"),
    )


def _item(data: Any, where: str) -> Item:
    if not isinstance(data, dict) or not isinstance(data.get("file"), str):
        raise InvalidInput(f"{where} is an object that names its file.", field=where)
    boxes, masks = data.get("boxes", []), data.get("masks", [])
    if not isinstance(boxes, list) or not isinstance(masks, list):
        raise InvalidInput(f"{where} has boxes and masks in lists.", field=where)
    check_counts(len(boxes), len(masks), where)
    return Item(
        data["file"],
        _text(data.get("caption", ""), f"{where}.caption", CAPTION_LIMIT),
        tuple(make_box(box, f"{where}.boxes[{at}]") for at, box in enumerate(boxes)),
        tuple(_mask(mask, f"{where}.masks[{at}]") for at, mask in enumerate(masks)),
    )


def check_counts(boxes: int, masks: int, where: str) -> None:
    """Refuse more boxes or masks over one image than can be looked at."""
    if boxes > BOXES_LIMIT or masks > MASKS_LIMIT:
        raise TooLarge(
            f"{where} has {boxes} boxes and {masks} masks; up to {BOXES_LIMIT} and {MASKS_LIMIT} are kept.", field=where
        )


def make_classes(classes_given: Any, where: str) -> dict[int, str]:
    """Return the names of a mask's classes by number, 1 to 255; raises InvalidInput."""
    if not isinstance(classes_given, Mapping) or len(classes_given) > CLASSES_LIMIT:
        raise InvalidInput(f"{where} names up to {CLASSES_LIMIT} classes by number.", field=where)
    try:
        classes = {int(number): str(name) for number, name in classes_given.items()}
    except (TypeError, ValueError):
        raise InvalidInput(f"{where} names classes by whole numbers.", field=where) from None
    if any(not 0 <= number <= 255 for number in classes):
        raise InvalidInput(f"{where} has a class beyond 0 to 255.", field=where)
    return {number: _text(name, where, LABEL_LIMIT) for number, name in classes.items()}


def _mask(data: Any, where: str) -> Mask:
    if not isinstance(data, dict) or not isinstance(data.get("file"), str):
        raise InvalidInput(f"{where} is an object that names its file.", field=where)
    name = _text(data.get("name", ""), f"{where}.name", LABEL_LIMIT)
    return Mask(name, data["file"], make_classes(data.get("classes", {}), f"{where}.classes"))


def _text(value: Any, where: str, limit: int) -> str:
    if not isinstance(value, str) or len(value) > limit or any(not c.isprintable() and c != "\n" for c in value):
        raise InvalidInput(f"{where} is a printable text of up to {limit} characters.", field=where)
    return value


def _number(value: Any, where: str) -> float:
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise InvalidInput(f"{where} is {value!r}; a finite number is needed.", field=where)
    return float(value)
