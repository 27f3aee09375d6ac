"""`set`, `result`, `measure` and `end` in their plain forms, for loops in shells.

Reading arguments in every form that `kinetrum.cli.recording.shell` takes, and a recorder made for trainings, cost
several times what such a command does. Whatever is not plain here is left to them, before anything is written: a
mistyped option, a text in quotes, a list, another value of a parameter, a run that this machine does not know, a spool
without room. What is written is the same either way; a test holds the two side by side.

Takes nothing that is heavy: see `benchmarks/shells.py`.
"""

from __future__ import annotations

import json
import os
import sys

from kinetrum.client.capture.host import take_identity
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.complete_segment import CompleteSegment, new_id
from kinetrum.client.spool.layout import LANES, note_path
from kinetrum.client.spool.run_addresses import address_in, keep_changes, read_kept
from kinetrum.core.base.ids import is_id
from kinetrum.places import spool_text

_OPTIONS = {
    "set": {"--run"},
    "result": {"--run"},
    "measure": {"--run", "--step"},
    "end": {"--run", "--failed", "--stopped"},
}
# Characters that mean themselves in keys, in texts and in JSON. No patterns: compiling them would take as long as all
# the rest.
_LETTERS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
_SIGNS = _LETTERS | frozenset("0123456789_./-")
_NO_WORDS = frozenset({"true", "false", "null", "NaN", "Infinity"})
_LENGTH = 200
Plain = float | int | str


class NotPlain(Exception):
    """The command takes more than this; nothing was written."""


def record_quickly(words: list[str]) -> int | None:
    """Do what a command line says, its first word the command.

    Returns the exit status; None, with nothing written, where this is left to the command that takes all forms.
    """
    try:
        command = _Command(words[0], *_read_words(words))
        changes = command.write()
    except (NotPlain, OSError, ValueError):
        return None
    try:
        if changes:
            keep_changes(command.root, command.run, changes)
    except OSError as error:
        print(
            f"kinetrum {words[0]}: Recorded, but {command.root} cannot be written ({error.strerror}).", file=sys.stderr
        )
        return 1
    start_sender(command.root)
    return 0


def _read_words(words: list[str]) -> tuple[dict[str, str], dict[str, str]]:
    """Return the options of a command line, and its pairs."""
    options: dict[str, str] = {}
    pairs: dict[str, str] = {}
    rest = iter(words[1:])
    for word in rest:
        name, sign, text = word.partition("=")
        if name in _OPTIONS[words[0]]:
            value = text if sign else next(rest, "")
            if name in options:
                raise NotPlain
            options[name] = check_option(value)
            continue
        pairs[check_new_key(name, pairs)] = text
    if bool(pairs) is (words[0] == "end"):
        raise NotPlain
    return options, pairs


def check_option(text: str) -> str:
    """Return the text of an option; raises NotPlain for one that may have been meant as another option."""
    if not text or text.startswith("-"):
        raise NotPlain
    return text


def check_new_key(key: str, known: dict[str, str]) -> str:
    """Return a plain key that was not given before; raises NotPlain for any other."""
    if key.startswith("-") or not is_plain(key) or key in known:
        raise NotPlain
    return key


class _Command:
    """One command about a run that was begun on this machine."""

    def __init__(self, word: str, options: dict[str, str], pairs: dict[str, str]) -> None:
        self.word, self.options, self.pairs = word, options, pairs
        self.root = spool_text()
        run = options.get("--run") or os.environ.get("KINETRUM_RUN", "")
        if not is_id(run) or "KINETRUM_SPOOL_LIMIT" in os.environ:
            raise NotPlain
        kept = read_kept(self.root, run)
        if kept is None or kept.get("ended"):
            raise NotPlain
        self.run, self.params, self.address = run, kept.get("params", {}), address_in(kept)
        if "machine" in kept:
            take_identity(**kept["machine"])
        self.segment, self.records = CompleteSegment(), 0

    def write(self) -> dict[str, object]:
        """Write what is recorded, if anything is; returns what the commands that come after have to know of it."""
        changes: dict[str, object] = getattr(self, f"_{self.word}")()
        if self.records:
            self.segment.write(self.root)
        return changes

    def _add(self, op: str, **fields: object) -> None:
        text = json.dumps({"op": op, **self.address, **fields}, separators=(",", ":"))
        self.segment.add_json(text.encode())
        self.records += 1

    def _set(self) -> dict[str, object]:
        known = self.params
        fresh = {}
        for key, text in self.pairs.items():
            value = read_plain(text)
            if key not in known:
                fresh[key] = value
            elif type(known[key]) is not type(value) or known[key] != value:
                # Perhaps the same in another form, perhaps a contradiction.
                raise NotPlain
        if not fresh:
            return {}
        self._add("params", params=fresh)
        return {"params": {**known, **fresh}}

    def _result(self) -> dict[str, object]:
        at = self.segment.moment
        results = [
            {"id": new_id(), "key": key, "value": read_plain(text), "at": at} for key, text in self.pairs.items()
        ]
        self._add("results", results=results)
        return {}

    def _measure(self) -> dict[str, object]:
        step, *values = map(read_number, (self.options.get("--step", ""), *self.pairs.values()))
        if not isinstance(step, int):
            raise NotPlain
        self._add("shape", shape=1, keys=list(self.pairs))
        self.segment.add_point(1, step, values)
        return {}

    def _end(self) -> dict[str, object]:
        status, reason = "finished", None
        for word in ("failed", "stopped"):
            if f"--{word}" in self.options:
                if reason is not None:
                    raise NotPlain
                status, reason = word, self.options[f"--{word}"]
        if self._is_to_be_told():
            raise NotPlain
        self._add("end", status=status, reason=reason, ended_at=self.segment.moment)
        return {"ended": status}

    def _is_to_be_told(self) -> bool:
        """Tell whether the command may have to say that something was refused or cannot be delivered."""
        return os.path.isdir(os.path.join(self.root, "set-aside")) or not way_is_open(self.root, self.address["to"])


def read_plain(text: str) -> Plain:
    """Read a value as `read_typed` would, where that is a number or a word."""
    if not is_plain(text) or text in _NO_WORDS:
        raise NotPlain
    return text if text[0] in _LETTERS else read_number(text)


def is_plain(text: str) -> bool:
    """Tell whether a text needs no other rule for keys and values than this."""
    return 0 < len(text) <= _LENGTH and _SIGNS.issuperset(text)


def read_number(text: str) -> float | int:
    """Read a number that JSON knows, whole where it is written so; beyond 15 digits others look closer."""
    value = json.loads(text, parse_constant=_not_plain)
    if type(value) not in {int, float} or not -1e15 < value < 1e15:
        raise NotPlain
    return value  # type: ignore[no-any-return]


def _not_plain(_: str) -> None:
    raise NotPlain


def way_is_open(root: str, destination: str) -> bool:
    """Tell whether nothing stood in the way of a destination at the last try."""
    for lane in LANES:
        try:
            with open(note_path(root, destination, lane), encoding="utf-8") as file:
                if file.read() != "null":
                    return False
        except FileNotFoundError:
            continue
    return True
