"""Small pictures of images of strangers. Meant for a process with limits."""

from __future__ import annotations

import io
import warnings
from typing import Any, BinaryIO

PIXELS_LIMIT = 100_000_000
# Only these are read: readers for other forms are many, and seldom used.
FORMS = ("PNG", "JPEG", "GIF", "WEBP", "BMP")


def make_thumbnail(file: BinaryIO, side: int) -> bytes | None:
    """Return a picture as WebP whose longer side has at most `side` pixels; None where it cannot be read.

    Of moving pictures it is the first one. Small pictures stay as they are, without loss.
    """
    from PIL import Image, ImageOps

    Image.MAX_IMAGE_PIXELS = PIXELS_LIMIT
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(file, formats=FORMS) as picture:
                small = max(picture.size) <= side
                picture.draft("RGB", (side * 2, side * 2))
                drawn = ImageOps.exif_transpose(_plain(picture))
                drawn.thumbnail((side, side), Image.Resampling.LANCZOS)
                target = io.BytesIO()
                drawn.save(target, "WEBP", lossless=small, quality=80)
                return target.getvalue()
    except Exception:
        # Whatever a reader makes of bytes of strangers, it is their fault and no reason to fail.
        return None


def _plain(picture: Any) -> Any:
    """Return it with colours that every form of picture can have; numbers of 16 bits are brought into view."""
    if picture.mode.startswith("I"):
        low, high = picture.getextrema()
        spread = (high - low) or 1
        return picture.point(lambda value: value * (255 / spread) - low * 255 / spread).convert("L")
    if picture.mode in {"RGB", "RGBA", "L"}:
        return picture
    return picture.convert("RGBA" if picture.mode in {"LA", "P", "PA"} else "RGB")
