"""`begin` in its plain forms: an experiment, plain settings and a name, once it is known where runs go.

As in `quick`, whatever is not plain is left to the command of all forms, before anything is written.
"""

from __future__ import annotations

import json
import os

from kinetrum.cli.recording.quick import (
    NotPlain,
    check_new_key,
    check_option,
    is_plain,
    read_number,
    read_plain,
    way_is_open,
)
from kinetrum.client.capture.about import about_process
from kinetrum.client.capture.host import host_name
from kinetrum.client.capture.shell_surroundings import start_looking
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.complete_segment import CompleteSegment, new_id
from kinetrum.client.spool.run_addresses import keep_address
from kinetrum.client.transport.shell_place import LEASE_S, NOT_OF_A_SHELL, ShellPlace, known_place
from kinetrum.core.base.ids import is_id
from kinetrum.core.base.names import NAME_LIMIT, RESERVED
from kinetrum.places import spool_text

_OPTIONS = frozenset({"--project", "--name", "--seed"})
_IN_NAMES = frozenset("abcdefghijklmnopqrstuvwxyz0123456789._-")


def begin_quickly(words: list[str]) -> int | None:
    """Begin a run as a command line says, its first word the command, and print its id.

    Returns the exit status; None, with nothing written, where this is left to the command that takes all forms.
    """
    try:
        root = spool_text()
        place = _place(root)
        names, options, params = _read_words(words[1:])
        run = _Beginning(root, place, names, options, params).write()
    except (NotPlain, OSError, ValueError, KeyError):
        return None
    start_sender(root)
    start_looking(run, place.left_out)
    print(run)
    return 0


def _place(root: str) -> ShellPlace:
    place = None if "KINETRUM_SPOOL_LIMIT" in os.environ else known_place(root)
    if place is None or not way_is_open(root, place.to):
        raise NotPlain
    return place


def _read_words(words: list[str]) -> tuple[list[str], dict[str, str], dict[str, str]]:
    """Return the names, the options and the settings of a command line."""
    names: list[str] = []
    options: dict[str, str] = {}
    params: dict[str, str] = {}
    rest = iter(words)
    for word in rest:
        name, sign, text = word.partition("=")
        if name == "--set":
            key, _, value = check_option(text if sign else next(rest, "")).partition("=")
            params[check_new_key(key, params)] = value
        elif name in _OPTIONS and name not in options:
            options[name] = check_option(text if sign else next(rest, ""))
        else:
            names.append(_check_name(word))
    if len(names) > 1:
        raise NotPlain
    return names, options, params


def _check_name(name: str) -> str:
    plain = 0 < len(name) <= NAME_LIMIT and name[0].isalpha() and _IN_NAMES.issuperset(name)
    if not plain or name in RESERVED:
        raise NotPlain
    return name


class _Beginning:
    """A run that is about to begin."""

    def __init__(
        self, root: str, place: ShellPlace, names: list[str], options: dict[str, str], params: dict[str, str]
    ) -> None:
        self.root, self.place = root, place
        self.run = new_id()
        self.name = options.get("--name")
        self.params = {key: read_plain(text) for key, text in params.items()}
        if "--seed" in options:
            seed = read_number(options["--seed"])
            if type(seed) is not int or "seed" in params:
                raise NotPlain
            self.params["seed"] = seed
        if self.name is not None and not is_plain(self.name):
            raise NotPlain
        self.address = {
            "run": self.run,
            "to": place.to,
            "project": _check_name(options.get("--project", place.project)),
            "experiment": names[0] if names else place.experiment,
        }
        above = os.environ.get("KINETRUM_RUN", "")
        self.above = above if is_id(above) else None

    def write(self) -> str:
        """Write the run's address and its beginning, and return its id."""
        segment = CompleteSegment()
        left_out = self.place.left_out
        record = {
            "op": "begin",
            **self.address,
            "started_at": segment.moment,
            "name": self.name,
            "lease_s": LEASE_S,
            "host": "" if "host" in left_out else host_name(),
            "parent": self.above,
            "labels": {},
            "about": about_process(left_out | NOT_OF_A_SHELL),
            "watched": False,
            "params": self.params,
            "goals": {},
        }
        segment.add_json(json.dumps(record, separators=(",", ":")).encode())
        keep_address(self.root, self.address, self.params)
        segment.write(self.root)
        return self.run
