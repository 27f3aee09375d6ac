"""What surrounded a run, compared with another run: code, packages, machine; and when a running one may end."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.values import Value, same, show

_DIFFERENCE_LINES = 20_000

# Whether a run's code can be had again: all of it is committed; some of it is not; or it lay in no repository.
CODE_STATES = ("clean", "changed", "unversioned")


def code_state(code: Mapping[str, Any], texts: Mapping[str, str]) -> str | None:
    """Return whether the code of a run was clean, changed against its commit, or in no repository; None if unknown.

    `texts` holds what was kept because no commit has it: an uncommitted difference, a script.
    """
    if not code:
        return "unversioned" if "script" in texts else None
    if not code.get("commit") and code.get("changed_files") is None:
        return "unversioned"
    loose = code.get("changed_files") or code.get("untracked_code") or {"difference", "script"} & texts.keys()
    return "changed" if loose or not code.get("commit") else "clean"


@dataclass(frozen=True)
class PackageChange:
    """Something that differs between two runs; None where one has none."""

    name: str
    here: str | None
    there: str | None


def changes(here: dict[str, Any], there: dict[str, Any]) -> list[PackageChange]:
    """Return what differs between two tables of names and values, by name."""
    changes_found = []
    for name in sorted(here.keys() | there.keys(), key=str.casefold):
        left, right = here.get(name), there.get(name)
        if name not in here or name not in there or not same(left, right):
            changes_found.append(PackageChange(name, _text(name in here, left), _text(name in there, right)))
    return changes_found


def _text(present: bool, value: Value) -> str | None:
    return show(value) if present else None


def code_change(
    here: dict[str, Any] | None, there: dict[str, Any] | None, texts_here: dict[str, str], texts_there: dict[str, str]
) -> str:
    """Say whether two runs had the same code: same, other commit, other uncommitted changes, or unknown.

    `texts_*` are the digests of the uncommitted difference and of an entry script that git does not know.
    """
    commit, other = (here or {}).get("commit"), (there or {}).get("commit")
    if commit and other and commit != other:
        return "other commit"
    texts = [
        {name: texts_of_side.get(name) for name in ("difference", "script")}
        for texts_of_side in (texts_here, texts_there)
    ]
    if not commit and not other and not any(texts[0].values()) and not any(texts[1].values()):
        return "unknown"
    if bool(commit) != bool(other):
        return "unknown"
    return "same" if texts[0] == texts[1] else "other uncommitted changes"


def text_difference(there: str | None, here: str | None, name_there: str, name_here: str) -> str | None:
    """Return the unified difference from one text to another, None where they are equal."""
    if there == here:
        return None
    left, right = (there or "").splitlines(), (here or "").splitlines()
    if len(left) + len(right) > _DIFFERENCE_LINES:
        return None
    return "\n".join(difflib.unified_diff(left, right, name_there, name_here, lineterm=""))


def expected_end(done: int, total: int | None, since: int, at: int) -> int | None:
    """Return when all is done if it goes on at the pace so far, in microseconds since 1970; None where unknown."""
    if total is None or done <= 0 or at <= since or done > total:
        return None
    return since + round((at - since) * total / done)
