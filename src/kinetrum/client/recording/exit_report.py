"""The last line of a program that recorded: what of it does not arrive, and why. Silent where all goes its way."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.core.base.errors import KinetrumError

if TYPE_CHECKING:
    from kinetrum.client.spool.draining import Mark

# A program that ends before its first records were tried waits this long to hear what became of them.
_FIRST_WORD_S, _PAUSE_S = 3.0, 0.02
_patience_s: float | None = _FIRST_WORD_S


def be_silent() -> None:
    """Say nothing at the end of this process: it says itself what became of its records, or is one of many."""
    global _patience_s
    _patience_s = None


def be_quick() -> None:
    """Say at the end of this process what is known by then, and wait for nothing."""
    global _patience_s
    _patience_s = 0.0


def report_undelivered(root: Path, writer: str, began: float) -> None:
    """Say in one line what this process recorded and cannot be delivered now.

    `writer` names its folder in the spool; `began` is when it was opened, in seconds since 1970.
    """
    if _patience_s is None or os.environ.get("KINETRUM_SENDER") == "off":
        return
    # Loaded here: a process that has nothing to say at its end, such as a command of a shell, is done sooner without.
    from kinetrum.client.display.notices import say_once, was_said
    from kinetrum.client.spool.draining import told_left

    try:
        left = _held_up(root, writer, began, _patience_s)
        if left and not all(
            was_said(obstruction.reason) for mark in left if (obstruction := mark.obstruction()) is not None
        ):
            say_once(told_left(root, left))
    except (OSError, KinetrumError, ValueError):
        # The end of somebody's program is no place to fail in; 'kinetrum spool' tells.
        return


def _held_up(root: Path, writer: str, began: float, patience_s: float) -> list[Mark]:
    from kinetrum.client.spool.draining import mark_of

    give_up = time.monotonic() + patience_s
    mark = mark_of(root / "writers" / writer, lambda *_: True, patient=True)
    while mark is not None and not mark.is_reached():
        if _is_heard(root, mark, began) or time.monotonic() > give_up:
            return [mark] if mark.obstruction() is not None else []
        time.sleep(_PAUSE_S)
    return []


def _is_heard(root: Path, mark: Mark, began: float) -> bool:
    """Tell whether it is known how deliveries go since a moment, or that none is tried before later."""
    from kinetrum.client.spool.obstructions import last_word

    obstruction = mark.obstruction()
    if obstruction is not None and obstruction.next_try > time.time():
        return True
    return all(last_word(root, name) >= began for name in mark.destinations)
