"""Which form a file has, told by its name and its first bytes, and the forms that a file's beginning suffices for."""

from __future__ import annotations

import csv
import io
import json

from kinetrum.core.preview.shown import COLUMNS_LIMIT, ROWS_LIMIT, Preview, Row, cell, left_out

HEAD_BYTES = 256 * 1024
# Forms whose readers are large and meet bytes of strangers: read by a process of its own, with limits.
FORMS_APART = frozenset({"parquet", "onnx", "safetensors", "zip", "tar", "npy"})
PICTURES = frozenset({"png", "jpg", "jpeg", "gif", "webp", "bmp"})
_LANGUAGES = {
    "py": "Python",
    "ipynb": "Jupyter notebook",
    "r": "R",
    "jl": "Julia",
    "sql": "SQL",
    "sh": "shell",
    "js": "JavaScript",
    "ts": "TypeScript",
    "html": "HTML",
    "htm": "HTML",
    "svg": "SVG",
    "xml": "XML",
    "toml": "TOML",
    "yaml": "YAML",
    "yml": "YAML",
    "ini": "INI",
    "cfg": "INI",
    "c": "C",
    "cpp": "C++",
    "java": "Java",
    "rs": "Rust",
    "go": "Go",
    "css": "CSS",
    "log": "log",
    "txt": "text",
    "tex": "TeX",
}
_NAMED = {
    "parquet": "parquet",
    "onnx": "onnx",
    "safetensors": "safetensors",
    "zip": "zip",
    "whl": "zip",
    "jar": "zip",
    "npz": "zip",
    "tar": "tar",
    "tgz": "tar",
    "npy": "npy",
    "csv": "csv",
    "tsv": "csv",
    "json": "json",
    "jsonl": "lines",
    "ndjson": "lines",
    "md": "markdown",
    "markdown": "markdown",
}
_MAGIC = (
    (b"PAR1", "parquet"),
    (b"PK\x03\x04", "zip"),
    (b"PK\x05\x06", "zip"),
    (b"\x93NUMPY", "npy"),
    (b"\x89PNG\r\n\x1a\n", "image"),
    (b"\xff\xd8\xff", "image"),
    (b"GIF8", "image"),
)


def form_of(path: str, head: bytes) -> str:
    """Return a file's form: what its first bytes say where they say it, else what its name says."""
    name = path.rpartition("/")[2].lower()
    ending = name.rpartition(".")[2] if "." in name else ""
    for magic, form in _MAGIC:
        if head.startswith(magic):
            return form if form != "image" or ending in PICTURES else "bytes"
    if name.endswith((".tar.gz", ".tar.xz", ".tar.bz2")) or head[257:262] == b"ustar":
        return "tar"
    if ending in PICTURES:
        return "image" if ending in {"webp", "bmp"} and head[:2] in {b"RI", b"BM"} else "bytes"
    form = _NAMED.get(ending, "text")
    # A name promises a form that only the right first bytes keep.
    return "text" if form in {"parquet", "zip", "npy"} else form


def preview_head(path: str, head: bytes, size: int) -> Preview:
    """Show what can be shown from the first bytes of a file: text, code, tables as text, JSON, Markdown."""
    form = form_of(path, head)
    if form == "image":
        return Preview("image")
    if size == 0:
        return Preview("text", note="The file is empty.")
    text = _decoded(head, cut=size > len(head))
    if text is None:
        return _bytes(head, size)
    note = f"The first {len(head):,} of {size:,} bytes." if size > len(head) else ""
    if form == "csv":
        return _csv(text, path.lower().endswith(".tsv"), note)
    if form == "markdown":
        return Preview("markdown", text, "Markdown", note=note)
    if form == "json" and not note:
        return _json(text)
    ending = path.rpartition(".")[2].lower()
    language = "JSON" if form in {"json", "lines"} else _LANGUAGES.get(ending, "text")
    return Preview("text", text, language, note=note)


def _decoded(head: bytes, cut: bool) -> str | None:
    """Read bytes as text, None where they are none; a character cut off at the end is left out."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        text = head.decode("utf-16", errors="replace")
    else:
        for end in range(len(head), max(len(head) - 4, -1) if cut else len(head) - 1, -1):
            try:
                text = head[:end].decode("utf-8-sig")
                break
            except UnicodeDecodeError:
                continue
        else:
            text = head.decode("latin-1")
    odd = sum(1 for c in text[:20_000] if (ord(c) < 32 and c not in "\t\n\r\f\x1b") or 127 <= ord(c) < 160)
    return None if odd > len(text[:20_000]) // 100 else text


def _bytes(head: bytes, size: int) -> Preview:
    lines = []
    for at in range(0, min(len(head), 512), 16):
        row = head[at : at + 16]
        shown = "".join(chr(byte) if 32 <= byte < 127 else "·" for byte in row)
        lines.append(f"{at:06x}  {row.hex(' '):<47}  {shown}")
    note = f"No form that is known here; the first {min(len(head), 512):,} of {size:,} bytes."
    return Preview("bytes", "\n".join(lines), note=note)


def _csv(text: str, tabs: bool, note: str) -> Preview:
    if note and "\n" in text:
        text = text[: text.rfind("\n") + 1]
    first = text.split("\n", 1)[0]
    separator = "\t" if tabs else max(",;\t|", key=first.count)
    rows: list[Row] = []
    count = widest = 0
    try:
        for row in csv.reader(io.StringIO(text), delimiter=separator):
            count += bool(row)
            widest = max(widest, len(row))
            if row and len(rows) <= ROWS_LIMIT:
                rows.append(tuple(cell(value) for value in row[:COLUMNS_LIMIT]))
    except csv.Error as error:
        return Preview("text", text, "CSV", note=f"It cannot be read as a table ({error}). {note}".strip())
    if not rows:
        return Preview("text", text, "CSV", note=note)
    width = max(len(row) for row in rows)
    rows = [row + ("",) * (width - len(row)) for row in rows]
    facts = () if note else (("rows", f"{count - 1:,}"), ("columns", f"{widest:,}"))
    shown = left_out(count - 1, widest)
    return Preview("table", columns=rows[0], rows=tuple(rows[1:]), facts=facts, note=f"{shown} {note}".strip())


def _json(text: str) -> Preview:
    try:
        text = json.dumps(json.loads(text), indent=2, ensure_ascii=False)
    except (ValueError, RecursionError) as error:
        return Preview("text", text, "JSON", note=f"It is not valid JSON ({str(error)[:200]}).")
    cut = text[:HEAD_BYTES]
    return Preview("text", cut, "JSON", note="" if len(cut) == len(text) else f"The first {HEAD_BYTES:,} characters.")
