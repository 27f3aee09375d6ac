"""Reading the members of an archive of strangers: never more than was announced, never a line that fills the memory."""

from __future__ import annotations

import csv
import json
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import IO, Any

from kinetrum.core.archives.archive import PlotRecord
from kinetrum.core.archives.archive_reading import check_micros, read_plot_record
from kinetrum.core.base.errors import InvalidInput, TooLarge
from kinetrum.core.base.samples import Samples, check_samples
from kinetrum.core.points.codec import Group
from kinetrum.core.text.printed_lines import STREAMS, Line
from kinetrum.storage.data.blobs import PIECE

JSON_LIMIT = 256 * 1024 * 1024
LINE_LIMIT = 1024 * 1024
# A plot of 100,000 rows in 40 columns is one line.
PLOT_LINE_LIMIT = 256 * 1024 * 1024
# Values are what JSON costs, not bytes: a hundred times as many as the largest manifest has files.
VALUES_LIMIT = 10_000_000
# Texts that people and programs wrote are packed to a tenth or a fiftieth; what is packed more, and large, is a bomb.
RATIO_LIMIT, _SMALL = 200, 8 * 1024 * 1024
POINTS_AT_ONCE = 50_000


def member_named(archive: zipfile.ZipFile, name: str) -> zipfile.ZipInfo:
    """Return what the archive lists under a name; raises InvalidInput where that is nothing."""
    try:
        return archive.getinfo(name)
    except KeyError:
        raise InvalidInput(f"The archive lacks {name[:200]}.", field=name[:200]) from None


@contextmanager
def _opened(archive: zipfile.ZipFile, name: str) -> Iterator[IO[bytes]]:
    """Open a member; raises InvalidInput where it is packed wrongly, in an unknown way, or under a password."""
    member = member_named(archive, name)
    try:
        with archive.open(member) as file:
            yield file
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError) as error:
        raise InvalidInput(f"{name[:200]} in the archive cannot be read ({error}).", field=name[:200]) from None


def read_json(archive: zipfile.ZipFile, name: str) -> Any:
    """Return a member as JSON data; raises InvalidInput, and TooLarge before unpacking what would fill the memory."""
    member = member_named(archive, name)
    if member.file_size > JSON_LIMIT:
        raise TooLarge(f"{name} in the archive has over {JSON_LIMIT} bytes.", field=name)
    if member.file_size > max(_SMALL, RATIO_LIMIT * member.compress_size):
        raise TooLarge(f"{name} in the archive unpacks to over {RATIO_LIMIT} times its size.", field=name)
    try:
        with _opened(archive, name) as file:
            return _parse(file.read(JSON_LIMIT))
    except ValueError as error:
        raise InvalidInput(f"{name} in the archive cannot be read ({error}).", field=name) from None


def _parse(text: str | bytes) -> Any:
    """Parse JSON; raises ValueError where that or one of its texts is wrong: half a surrogate pair is no Unicode."""
    signs = (
        (text.count(b",") + text.count(b"[") + text.count(b"{"))
        if isinstance(text, bytes)
        else (text.count(",") + text.count("[") + text.count("{"))
    )
    if signs > VALUES_LIMIT:
        raise ValueError(f"over {VALUES_LIMIT:,} values")
    data = json.loads(text)
    if (b"\\u" in text) if isinstance(text, bytes) else ("\\u" in text):
        json.dumps(data, ensure_ascii=False).encode()
    return data


def read_pieces(archive: zipfile.ZipFile, place: str, size: int) -> Iterator[bytes]:
    """Yield a member's bytes; raises InvalidInput as soon as there are more than were announced."""
    left = size
    with _opened(archive, place) as file:
        while piece := file.read(PIECE):
            left -= len(piece)
            if left < 0:
                raise InvalidInput(f"{place} in the archive is longer than the {size} bytes that are listed for it.")
            yield piece


def _text_lines(archive: zipfile.ZipFile, name: str, limit: int = LINE_LIMIT) -> Iterator[str]:
    """Yield the lines of a text in the archive, none so long that it would fill the memory."""
    if name not in archive.NameToInfo:
        return
    with _opened(archive, name) as file:
        while raw := file.readline(limit):
            if len(raw) == limit:
                raise InvalidInput(f"A line of {name} has over {limit} bytes.", field=name)
            try:
                yield raw.decode()
            except UnicodeDecodeError:
                raise InvalidInput(f"{name} is not UTF-8 text.", field=name) from None


def read_points(archive: zipfile.ZipFile, name: str) -> Iterator[list[Group]]:
    """Yield points in groups of one metric each, in batches that fit into memory."""
    rows = csv.reader(_text_lines(archive, name))
    metric, groups = "", list[Group]()
    steps, times, values = list[int](), list[int](), list[float]()
    count = 0
    next(rows, None)
    try:
        for row in rows:
            if row[0] != metric and steps:
                groups.append(_group(metric, steps, times, values))
                steps, times, values = [], [], []
            metric = row[0]
            steps.append(int(row[1]))
            times.append(int(row[2]))
            values.append(float(row[3]))
            count += 1
            if count >= POINTS_AT_ONCE:
                yield [*groups, _group(metric, steps, times, values)]
                groups, count, steps, times, values = [], 0, [], [], []
    except (ValueError, IndexError, OverflowError, csv.Error) as error:
        raise InvalidInput(f"Line {rows.line_num} of {name} is not a point ({error}).", field=name) from None
    if steps:
        groups.append(_group(metric, steps, times, values))
    if groups:
        yield groups


def _group(metric: str, steps: list[int], times: list[int], values: list[float]) -> Group:
    import numpy as np

    return Group(
        (metric,), np.array(steps, np.int64), np.array(times, np.int64), np.array(values, np.float64).reshape(1, -1)
    )


def read_output(archive: zipfile.ZipFile, name: str) -> Iterator[Line]:
    """Yield printed lines; where some were left out, one that says so."""
    for at, line_data in enumerate(_json_lines(archive, name), 1):
        try:
            if "left_out" in line_data:
                line = Line(0, STREAMS[0], f"[{int(line_data['left_out']):,} lines were left out here]")
            else:
                stream = line_data["stream"] if line_data["stream"] in STREAMS else STREAMS[0]
                line = Line(check_micros(line_data["at"]), stream, str(line_data["text"]))
        except (ValueError, KeyError, TypeError, OverflowError, InvalidInput) as error:
            raise InvalidInput(f"Line {at} of {name} is not a printed line ({error}).", field=name) from None
        yield line


def read_machine(archive: zipfile.ZipFile, name: str) -> Iterator[Samples]:
    """Yield blocks of samples of what the run used of its machine."""
    for at, line in enumerate(_json_lines(archive, name), 1):
        try:
            samples = check_samples(line)
        except (InvalidInput, TooLarge) as error:
            raise InvalidInput(f"Line {at} of {name} holds no samples: {error}", field=name) from None
        yield samples


def read_plots(archive: zipfile.ZipFile, name: str) -> Iterator[PlotRecord]:
    """Yield the plots of a run; archives of earlier versions have none."""
    for at, line in enumerate(_json_lines(archive, name, PLOT_LINE_LIMIT), 1):
        try:
            record = read_plot_record(line)
        except (InvalidInput, TooLarge) as error:
            raise InvalidInput(f"Line {at} of {name} is not a plot: {error}", field=name) from None
        yield record


def _json_lines(archive: zipfile.ZipFile, name: str, limit: int = LINE_LIMIT) -> Iterator[dict[str, Any]]:
    """Yield the objects of a member with one a line; of one that is not there none."""
    for at, text in enumerate(_text_lines(archive, name, limit), 1):
        try:
            line = _parse(text)
            if not isinstance(line, dict):
                raise ValueError("no object")
        except (ValueError, RecursionError) as error:
            raise InvalidInput(f"Line {at} of {name} is not JSON ({error}).", field=name) from None
        yield line
