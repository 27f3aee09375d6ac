"""Lines on standard error that a process says once: for people at a terminal, not for the run's record."""

from __future__ import annotations

import contextlib

from kinetrum.client.capture import standard_streams

_said: set[str] = set()


def was_said(text: str) -> bool:
    """Tell whether a line with this text in it was said."""
    return any(text in line for line in _said)


def say_once(text: str) -> None:
    """Say a line, unless this process said it before; where standard error is closed, nobody is told."""
    if text in _said:
        return
    _said.add(text)
    with contextlib.suppress(OSError, ValueError, AttributeError):
        standard_streams.write_beside(f"kinetrum: {text}\n")
