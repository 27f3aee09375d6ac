"""Which kind of result a file is, told by its ending, and the type under which a browser shows or plays it."""

from __future__ import annotations

KINDS = ("image", "sound", "video", "text", "table")
_TYPES = {
    "png": "image/png",
    "jpg": "image/jpeg",
    "jpeg": "image/jpeg",
    "gif": "image/gif",
    "webp": "image/webp",
    "bmp": "image/bmp",
    "wav": "audio/wav",
    "mp3": "audio/mpeg",
    "ogg": "audio/ogg",
    "oga": "audio/ogg",
    "opus": "audio/ogg",
    "flac": "audio/flac",
    "m4a": "audio/mp4",
    "mp4": "video/mp4",
    "m4v": "video/mp4",
    "webm": "video/webm",
    "ogv": "video/ogg",
}
_KINDS = {"image": "image", "audio": "sound", "video": "video"}
_TEXTS = frozenset({"txt", "md", "markdown", "log", "rst"})
_TABLES = frozenset({"csv", "tsv", "parquet", "jsonl", "ndjson"})


def _ending(path: str) -> str:
    name = path.rpartition("/")[2].lower().removesuffix(".gz")
    return name.rpartition(".")[2] if "." in name else ""


def type_of(path: str) -> str | None:
    """Return the media type under which a browser shows or plays a file by itself, None for everything else."""
    return None if path.lower().endswith(".gz") else _TYPES.get(_ending(path))


def kind_of(path: str) -> str | None:
    """Return the kind of result that a file is, None where it is none of them."""
    ending = _ending(path)
    if ending in _TEXTS:
        return "text"
    if ending in _TABLES:
        return "table"
    kind = _TYPES.get(ending)
    return _KINDS[kind.partition("/")[0]] if kind else None
