"""Writing images, sound, video and tables into files of open forms, from arrays and from other libraries' objects."""

from __future__ import annotations

import csv
import gzip
import io
import os
import shutil
import wave
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias, cast

from kinetrum.core.base.arrays import plain_array
from kinetrum.core.base.errors import InvalidInput, NotFound, TooLarge
from kinetrum.core.media import kind_of

if TYPE_CHECKING:
    from numpy.typing import NDArray
    from PIL.Image import Image

Pixels: TypeAlias = "NDArray[Any]"

PIXELS_LIMIT, TEXT_LIMIT, ROWS_LIMIT = 100_000_000, 1_000_000, 1_000_000
IMAGE_BYTES, FILE_BYTES = 64 * 1024 * 1024, 2 * 1024**3


def needed(extra: str, what: str, library: str) -> InvalidInput:
    """Return what to say where a library is missing."""
    return InvalidInput(f"{what} needs {library}: pip install 'kinetrum[{extra}]'")


def _given_path(value: object, kind: str, where: str, limit: int) -> Path | None:
    """Return the file that was named, None where something else was given; raises where it is of another kind."""
    if not isinstance(value, str | os.PathLike):
        return None
    path = Path(value)
    if not path.is_file():
        raise NotFound(f"{where}: there is no file {path}.", field=where)
    if kind_of(path.name) != kind:
        raise InvalidInput(f"{where}: {path.name} has not the ending of a file of kind {kind}.", field=where)
    size = path.stat().st_size
    if size > limit:
        raise TooLarge(f"{where}: {path.name} has {size:,} bytes, over {limit:,}.", field=where)
    return path


def _copied(path: Path, target: Path) -> Path:
    shutil.copyfile(path, target)
    return target


def save_image(picture_given: object, folder: Path, stem: str, where: str) -> Path:
    """Write an image under a stem; returns its file."""
    path = _given_path(picture_given, "image", where, IMAGE_BYTES)
    if path is not None:
        return _copied(path, folder / f"{stem}{path.suffix.lower()}")
    target = folder / f"{stem}.png"
    if hasattr(picture_given, "savefig"):
        picture_given.savefig(target, format="png", metadata={"Software": None})
        return target
    is_picture = hasattr(picture_given, "convert") and hasattr(picture_given, "save")
    picture = cast("Image", picture_given) if is_picture else _picture(picture_given, where)
    if picture.mode not in {"1", "L", "LA", "RGB", "RGBA", "P", "I;16"}:
        picture = picture.convert("RGB")
    picture.save(target, format="PNG")
    return target


def _picture(value: object, where: str) -> Image:
    try:
        from PIL import Image
    except ImportError:
        raise needed("media", "An image from an array", "Pillow") from None
    return Image.fromarray(_pixels(value, where, (1, 3, 4)))


def _pixels(value: object, where: str, channels: tuple[int, ...]) -> Pixels:
    """Return an array of bytes (height, width[, channels]); raises InvalidInput that says what would fit."""

    array = plain_array(value)
    if _has_channels_first(array, channels):
        if not hasattr(value, "detach"):
            raise InvalidInput(
                f"{where} has the shape {array.shape}, channels first; turn it by array.transpose(1, 2, 0).",
                field=where,
            )
        # A tensor's usual order.
        array = array.transpose(1, 2, 0)
    if array.ndim == 3 and array.shape[2] == 1:
        array = array[:, :, 0]
    if array.ndim not in {2, 3} or (array.ndim == 3 and array.shape[2] not in channels) or not array.size:
        raise InvalidInput(
            f"{where} has the shape {array.shape}; (height, width) or (height, width, {', '.join(map(str, channels))}) "
            "is needed.",
            field=where,
        )
    if array.shape[0] * array.shape[1] > PIXELS_LIMIT:
        raise TooLarge(f"{where} has over {PIXELS_LIMIT:,} pixels.", field=where)
    return _as_bytes(array, where)


def _has_channels_first(array: Pixels, channels: tuple[int, ...]) -> bool:
    return array.ndim == 3 and array.shape[0] in channels and array.shape[2] not in channels


def _as_bytes(array: Pixels, where: str) -> Pixels:
    import numpy as np

    if array.dtype == np.uint8:
        return np.ascontiguousarray(array)
    if array.dtype == np.bool_:
        return array.astype(np.uint8) * np.uint8(255)
    if array.dtype.kind not in "iuf":
        raise InvalidInput(f"{where} holds {array.dtype}; numbers are needed.", field=where)
    low, high = float(np.min(array)), float(np.max(array))
    top = 1.0 if array.dtype.kind == "f" else 255
    if not (low >= 0 and high <= top):
        raise InvalidInput(
            f"{where} holds {array.dtype} from {low:g} to {high:g}; bytes from 0 to 255, or numbers from 0 to 1, are "
            "needed.",
            field=where,
        )
    return np.round(array * 255).astype(np.uint8) if array.dtype.kind == "f" else array.astype(np.uint8)


def save_mask(mask: object, image: Path, stem: str, where: str) -> str:
    """Write a mask of an image; returns its file's name. Raises InvalidInput where their sizes differ."""
    import numpy as np

    try:
        from PIL import Image
    except ImportError:
        raise needed("media", "A mask", "Pillow") from None
    array = plain_array(mask)
    if array.dtype == np.bool_:
        array = array.astype(np.uint8)
    if array.ndim != 2 or array.dtype.kind not in "iu" or (array.size and not 0 <= array.min() <= array.max() <= 255):
        raise InvalidInput(
            f"{where} is {array.dtype} of the shape {array.shape}; (height, width) class numbers from 0 to 255 are "
            "needed.",
            field=where,
        )
    with Image.open(image) as under:
        width, height = under.size
    if array.shape != (height, width):
        raise InvalidInput(f"{where} has the shape {array.shape}, its image {(height, width)}.", field=where)
    Image.fromarray(array.astype(np.uint8)).save(image.with_name(f"{stem}.png"), format="PNG")
    return f"{stem}.png"


def save_sound(sound: object, rate: int | None, folder: Path) -> Path:
    """Write a sound; returns its file."""
    path = _given_path(sound, "sound", "sound", FILE_BYTES)
    if path is not None:
        return _copied(path, folder / f"sound{path.suffix.lower()}")
    import numpy as np

    array = plain_array(sound)
    if array.ndim == 2 and hasattr(sound, "detach") and array.shape[0] <= 8 < array.shape[1]:
        # A tensor's usual order, channels first.
        array = array.T
    if array.ndim == 1:
        array = array[:, None]
    if array.ndim != 2 or not 1 <= array.shape[1] <= 8 or array.dtype.kind not in "if" or not len(array):
        raise InvalidInput(
            f"The sound is {array.dtype} of the shape {np.shape(cast(Pixels, sound))}; n or n x channels samples are "
            "needed.",
            field="sound",
        )
    if not isinstance(rate, int) or not 1 <= rate <= 1_000_000:
        raise InvalidInput(f"rate is {rate!r}; samples need their rate per second, like 16_000.", field="rate")
    if array.dtype.kind == "f":
        if not np.all(np.abs(array) <= 1):
            raise InvalidInput("The sound holds numbers beyond -1 to 1, or NaN.", field="sound")
        array = np.round(array * 32_767).astype("<i2")
    elif array.dtype != np.int16:
        raise InvalidInput(f"The sound holds {array.dtype}; int16, or numbers from -1 to 1, are needed.", field="sound")
    target = folder / "sound.wav"
    with wave.open(str(target), "wb") as file:
        file.setnchannels(array.shape[1])
        file.setsampwidth(2)
        file.setframerate(rate)
        file.writeframes(np.ascontiguousarray(array, dtype="<i2").tobytes())
    return target


def save_video(video: object, rate: float | None, folder: Path) -> Path:
    """Write a video; returns its file. Frames are encoded as VP9 in WebM, which every browser plays."""
    path = _given_path(video, "video", "video", FILE_BYTES)
    if path is not None:
        return _copied(path, folder / f"video{path.suffix.lower()}")
    import numpy as np

    if rate is None or not 0 < rate <= 240:
        raise InvalidInput(f"rate is {rate!r}; frames need their rate per second, like 12.", field="rate")
    frames_given = cast("list[Pixels]", video)
    if np.ndim(frames_given) not in {3, 4} or not len(frames_given):
        raise InvalidInput(
            f"The video has the shape {np.shape(frames_given)}; (frames, height, width[, 1 or 3]) is needed.",
            field="video",
        )
    try:
        import av
    except ImportError:
        raise needed("video", "A video from frames", "PyAV") from None
    from fractions import Fraction

    target = folder / "video.webm"
    frames = [_pixels(frame, f"video[{at}]", (1, 3)) for at, frame in enumerate(frames_given)]
    height, width = frames[0].shape[:2]
    with av.open(str(target), "w", options={"fflags": "+bitexact"}) as file:
        stream = file.add_stream("libvpx-vp9", rate=Fraction(rate).limit_denominator(1_000))
        # The form stores colours for every second pixel, so that sides are even; bit-exact files are kept once.
        stream.width, stream.height, stream.pix_fmt = width + width % 2, height + height % 2, "yuv420p"
        stream.options = {"crf": "24", "b": "0", "deadline": "realtime", "cpu-used": "6"}
        for pixels in frames:
            colours = pixels if pixels.ndim == 3 else np.repeat(pixels[:, :, None], 3, axis=2)
            padded = np.pad(colours, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge")
            for packet in stream.encode(av.VideoFrame.from_ndarray(padded, format="rgb24")):
                file.mux(packet)
        for packet in stream.encode():
            file.mux(packet)
    return target


def save_table(table_given: object, key: str | None, folder: Path) -> Path:
    """Write a table; returns its file. Raises InvalidInput where the key tells rows not apart."""
    path = _given_path(table_given, "table", "table", FILE_BYTES)
    if path is not None:
        return _copied(path, folder / f"table{''.join(path.suffixes[-2:]).lower()}")
    columns = columns_of(table_given)
    lengths = {name: len(values) for name, values in columns.items()}
    if not columns or len(set(lengths.values())) > 1:
        raise InvalidInput(f"A table has columns of equal length; these have {lengths}.", field="table")
    rows = next(iter(lengths.values()))
    if rows > ROWS_LIMIT:
        raise TooLarge(f"The table has {rows:,} rows, over {ROWS_LIMIT:,}; keep it as a file.", field="table")
    if key is not None:
        _check_key(columns, key)
    try:
        import pyarrow as pa
        from pyarrow import parquet
    except ImportError:
        return _save_csv(columns, folder)
    try:
        table = pa.table(dict(columns))
    except (pa.ArrowException, TypeError, ValueError):
        table = pa.table({name: _one_type(values) for name, values in columns.items()})
    parquet.write_table(table, folder / "table.parquet", compression="zstd")
    return folder / "table.parquet"


def columns_of(table: object) -> dict[str, list[object]]:
    """Return columns of plain values by name, from frames, Arrow tables, mappings, or rows as mappings."""
    if hasattr(table, "to_pydict"):
        table = table.to_pydict()
    elif hasattr(table, "columns") and hasattr(table, "to_dict"):
        table = {str(name): cast("Mapping[object, object]", table)[name] for name in table.columns}
    if isinstance(table, Mapping):
        return {str(name): _listed(values) for name, values in table.items()}
    rows = list(cast("Iterable[Mapping[object, object]]", table))
    if not rows or not all(isinstance(row, Mapping) for row in rows):
        raise InvalidInput("A table is a frame, an Arrow table, columns by name, or rows as mappings.", field="table")
    names = list(dict.fromkeys(str(name) for row in rows for name in row))
    return {name: [_plain(row.get(name)) for row in rows] for name in names}


def _listed(values: Iterable[object]) -> list[object]:
    listed = values.tolist() if hasattr(values, "tolist") else list(values)
    return [_plain(value) for value in listed]


def _plain(value: object) -> object:
    return value.item() if hasattr(value, "item") and getattr(value, "ndim", 0) == 0 else value


def _one_type(values: list[object]) -> list[object]:
    """Return a column of mixed values as texts, None as it is."""
    return [None if value is None else str(value) for value in values]


def _check_key(columns: Mapping[str, list[object]], key: str) -> None:
    if key not in columns:
        raise InvalidInput(f"key names {key!r}; the columns are {', '.join(list(columns)[:12])}.", field="key")
    seen: set[str] = set()
    for at, value in enumerate(columns[key]):
        text = str(value)
        if value is None or text in seen:
            raise InvalidInput(f"The row key {text!r} at row {at} is missing or stands twice.", field="key")
        seen.add(text)


def _save_csv(columns: Mapping[str, list[object]], folder: Path) -> Path:
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(columns)
    table.writerows(zip(*columns.values(), strict=True))
    path = folder / "table.csv.gz"
    path.write_bytes(gzip.compress(text.getvalue().encode(), mtime=0))
    return path
