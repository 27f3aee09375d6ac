"""Standard output and errors of the command line: nothing that was recorded steers the terminal of whoever reads it.

Every line that any command prints goes through here, so that no command can forget it.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterable, Iterator
from typing import Any, TextIO, cast

from kinetrum.core.text.terminal import without_steering


class CleanedOutput:
    """A text stream that cleans what is written to it, and is in all else the stream beneath."""

    def __init__(self, under: TextIO) -> None:
        self.under = under

    def write(self, text: str) -> int:
        """Write a text without what would steer a terminal."""
        self.under.write(without_steering(text))
        return len(text)

    def writelines(self, lines: Iterable[str]) -> None:
        """Write several texts."""
        for line in lines:
            self.write(line)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.under, name)


@contextlib.contextmanager
def cleaned_output() -> Iterator[None]:
    """Clean what is printed as long as this lasts."""
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = (cast(TextIO, CleanedOutput(stream)) for stream in before)
    try:
        yield
    finally:
        sys.stdout, sys.stderr = before


def beneath(stream: TextIO) -> TextIO:
    """Return the stream that takes everything: for styles of printed output, progress bars, and data in pipes."""
    return stream.under if isinstance(stream, CleanedOutput) else stream


def write_data(pieces: Iterable[bytes]) -> None:
    """Write data in UTF-8 to standard output: as it is into a pipe, without what would steer it on a terminal."""
    sys.stdout.flush()
    if not sys.stdout.isatty():
        for piece in pieces:
            sys.stdout.buffer.write(piece)
        sys.stdout.flush()
        return
    import codecs

    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    for piece in pieces:
        sys.stdout.write(decoder.decode(piece))
