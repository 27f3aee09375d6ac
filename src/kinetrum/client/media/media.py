"""Results to be seen, heard or read: images, sound, video, texts and tables of a run, step by step."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.media import ITEMS_FILE, Item, Mask, write_items
from kinetrum.core.media.items import (
    CAPTION_LIMIT,
    ITEMS_LIMIT,
    check_counts,
    make_box,
    make_classes,
)

if TYPE_CHECKING:
    from kinetrum.client.recording.run import Run


T = TypeVar("T")


class Media:
    """The images, sounds, videos, texts and tables that a run keeps, each kind by a method.

    Each call makes a version of the artifact `name`, of that kind and at that step; without `step` it is the point of
    training, inside `progress` the item's number. What is equal to what is there is kept once.
    """

    def __init__(self, run: Run) -> None:
        self._run = run

    def __repr__(self) -> str:
        return f"<Media of {self._run!r}>"

    def image(
        self,
        name: str,
        image: object,
        *,
        caption: str = "",
        boxes: Sequence[object] = (),
        masks: Mapping[str, object] | None = None,
        classes: Mapping[int, str] | None = None,
        step: int | None = None,
    ) -> None:
        """Keep one image; see `images`."""
        self.images(name, [image], captions=[caption], boxes=[boxes], masks=[masks or {}], classes=classes, step=step)

    def images(
        self,
        name: str,
        images: Sequence[object],
        *,
        captions: Sequence[str] | None = None,
        boxes: Sequence[Sequence[object]] | None = None,
        masks: Sequence[Mapping[str, object]] | None = None,
        classes: Mapping[int, str] | None = None,
        step: int | None = None,
    ) -> None:
        """Keep several images, up to 1,000, that belong together.

        Each is an array (height, width) or (height, width, 1, 3 or 4) of bytes, of numbers from 0 to 1 or of booleans;
        an image of Pillow; a figure of matplotlib; or the path of a PNG, JPEG, GIF, WebP or BMP file. `captions`,
        `boxes` and `masks` have one entry per image: a text; boxes (x, y, width, height[, label[, score]]) in pixels
        from the upper left corner; masks by name, each an array (height, width) of class numbers, 0 for none.
        `classes` names these numbers. Raises InvalidInput or TooLarge that names what does not fit.
        """
        from kinetrum.client.media.media_files import save_image, save_mask

        count = len(images)
        if not 1 <= count <= ITEMS_LIMIT:
            raise InvalidInput(f"{name} has {count} images; 1 to {ITEMS_LIMIT} are kept at once.", field="images")
        caption_texts = _each(captions, count, "captions", "")
        drawn = _each(boxes, count, "boxes", ())
        covered: Sequence[Mapping[str, object]] = _each(masks, count, "masks", {})
        named = make_classes(classes or {}, "classes")
        with tempfile.TemporaryDirectory() as folder:
            items = []
            for at, image in enumerate(images):
                stem = f"{at + 1:0{max(3, len(str(count)))}d}"
                check_counts(len(drawn[at]), len(covered[at]), f"images[{at}]")
                path = save_image(image, Path(folder), stem, f"images[{at}]")
                layers = [
                    Mask(str(layer), save_mask(mask, path, f"{stem}.mask{which + 1}", f"masks[{at}][{layer!r}]"), named)
                    for which, (layer, mask) in enumerate(covered[at].items())
                ]
                rectangles = [make_box(box, f"boxes[{at}][{which}]") for which, box in enumerate(drawn[at])]
                items.append(Item(path.name, _caption(caption_texts[at], at), tuple(rectangles), tuple(layers)))
            self._keep(name, "image", Path(folder), items, step)

    def sound(
        self, name: str, sound: object, *, rate: int | None = None, caption: str = "", step: int | None = None
    ) -> None:
        """Keep a sound: the path of a WAV, MP3, Ogg, FLAC or M4A file, or samples with their `rate` per second.

        Samples are n or n x channels numbers from -1 to 1, or 16-bit integers; they become a WAV file.
        """
        from kinetrum.client.media.media_files import save_sound

        with tempfile.TemporaryDirectory() as folder:
            path = save_sound(sound, rate, Path(folder))
            self._keep(name, "sound", Path(folder), [Item(path.name, _caption(caption, 0))], step)

    def video(
        self, name: str, video: object, *, rate: float | None = None, caption: str = "", step: int | None = None
    ) -> None:
        """Keep a video: the path of an MP4, WebM or Ogg file, or frames with their `rate` per second.

        Frames are an array (frames, height, width[, 1 or 3]) of bytes or of numbers from 0 to 1; they become a WebM
        file, for which the extra `kinetrum[video]` is needed.
        """
        from kinetrum.client.media.media_files import save_video

        with tempfile.TemporaryDirectory() as folder:
            path = save_video(video, rate, Path(folder))
            self._keep(name, "video", Path(folder), [Item(path.name, _caption(caption, 0))], step)

    def text(self, name: str, text: str, *, markdown: bool = False, step: int | None = None) -> None:
        """Keep a text of up to a million characters; as Markdown where it is some."""
        from kinetrum.client.media.media_files import TEXT_LIMIT

        if not isinstance(text, str):
            raise InvalidInput(f"A text is needed, not {type(text).__name__}.", field="text")
        if len(text) > TEXT_LIMIT:
            raise TooLarge(
                f"The text has {len(text):,} characters, over {TEXT_LIMIT:,}; keep it as a file with generated().",
                field="text",
            )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / ("text.md" if markdown else "text.txt")
            path.write_text(text, encoding="utf-8", errors="replace", newline="")
            self._keep(name, "text", Path(folder), [Item(path.name)], step)

    def table(self, name: str, table: object, *, key: str | None = None, step: int | None = None) -> None:
        """Keep a table of up to a million rows, to be sorted, filtered, and joined with others by its row key.

        It is a frame of pandas or polars, a table of Arrow, columns by name, a list of rows as mappings, or the path
        of a CSV, Parquet or JSON Lines file. `key` names the column that tells rows apart. It is kept as Parquet where
        pyarrow is there, else as gzipped CSV.
        """
        from kinetrum.client.media.media_files import save_table

        with tempfile.TemporaryDirectory() as folder:
            save_table(table, key, Path(folder))
            self._keep(name, "table", Path(folder), [], step, {"key": key} if key else None)

    def _keep(
        self,
        name: str,
        kind: str,
        folder: Path,
        items: Sequence[Item],
        step: int | None,
        about: Mapping[str, object] | None = None,
    ) -> None:
        items_text = write_items(items)
        if items_text is not None:
            (folder / ITEMS_FILE).write_text(items_text, encoding="utf-8")
        # A single file stands alone, so that the same file kept in any other way is the same content.
        files = list(folder.iterdir())
        path = files[0] if len(files) == 1 else folder
        self._run.generated(path, name=name, kind=kind, step=step, about=about)


def _each(values: Sequence[T] | None, count: int, what: str, empty: T) -> Sequence[T]:
    if values is None:
        return [empty] * count
    if len(values) != count:
        raise InvalidInput(f"There are {count} images and {len(values)} {what}; one each is needed.", field=what)
    return [empty if one is None else one for one in values]


def _caption(caption: object, at: int) -> str:
    text = str(caption or "")
    if len(text) > CAPTION_LIMIT:
        raise TooLarge(f"The caption {at} has {len(text):,} characters, over {CAPTION_LIMIT:,}.", field="captions")
    return "".join(c if c.isprintable() or c == "\n" else " " for c in text)
