"""The state of the code: commit, branch and uncommitted difference of a git working tree, asked of git itself.

Everything is bounded in time and size: a difference of gigabytes is cut, a repository that takes too long is left.
Nothing is written into the repository. What it configures for showing differences is not run, its filters are.
"""

from __future__ import annotations

import contextlib
import os
import select
import shutil
import subprocess
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.capture import fork_safety
from kinetrum.core.text.secrets import hide_in_address, hide_in_lines

DIFFERENCE_LIMIT, SCRIPT_LIMIT, LISTING_LIMIT = 1024 * 1024, 256 * 1024, 4 * 1024 * 1024
TIME_LIMIT_S = 10.0
_OWN_LIMIT = 50
_INSTALLED = frozenset({"site-packages", "dist-packages", "node_modules"})
_STATES = {
    "MERGE_HEAD": "merging",
    "REBASE_HEAD": "rebasing",
    "CHERRY_PICK_HEAD": "picking",
    "REVERT_HEAD": "reverting",
}


@dataclass(frozen=True)
class Code:
    """What is known of the code: fields of the repository, the uncommitted difference, a script git does not know."""

    fields: dict[str, object] | None
    difference: str | None
    script: str | None


def find_code(folder: Path, entry: Path | None, modules: Iterable[str] = ()) -> Code:
    """Describe the code in a folder; `entry` is the script that was started, `modules` are files that it loaded.

    Without git, outside a repository, or where git refuses, only the script itself is described.
    """
    git = _Git(folder)
    top = git.line("rev-parse", "--show-toplevel")
    if top is None:
        script, hidden = _script(entry)
        return Code({"entry": _name(entry, folder), "hidden_lines": hidden} if entry else None, None, script)
    commit = git.line("rev-parse", "--verify", "-q", "HEAD")
    status, whole = git.ask(LISTING_LIMIT, "status", "--porcelain=v1", "-z", "--untracked-files=normal")
    entries = [part for part in status.decode("utf-8", "replace").split("\0") if part]
    untracked = sum(part.startswith("?? ") for part in entries)
    difference, cut, hidden = _difference(git, commit)
    known = entry is not None and git.line("ls-files", "--error-unmatch", "--", str(entry)) is not None
    script, hidden_too = (None, 0) if known else _script(entry)
    fields: dict[str, object] = {
        "address": _address(git),
        "commit": commit,
        "branch": git.line("symbolic-ref", "--short", "-q", "HEAD"),
        "state": _state(git),
        "changed_files": len(entries) - untracked,
        "untracked_files": untracked,
        "entry": _name(entry, Path(top)),
        "hidden_lines": hidden + hidden_too,
        "untracked_code": untracked_among(git, Path(top), own_code(Path(top), entry, modules)),
        "cut": cut or (None if whole else "the list of changed files was cut"),
    }
    return Code(fields, difference, script)


def own_code(top: Path, entry: Path | None, modules: Iterable[str]) -> list[Path]:
    """Return the files below a repository that a script is, has loaded, or imports, what it imports among them.

    Imports are read, not carried out; what is installed in an environment that lies in the repository is left out.
    """
    root = top.resolve()
    names = [*([str(entry)] if entry else []), *modules, *(_imported(entry, root) if entry else [])]
    files = {Path(name).resolve() for name in names}
    return sorted(file for file in files if file.is_file() and _is_own(file, root))


def _is_own(file: Path, root: Path) -> bool:
    return file.is_relative_to(root) and not _INSTALLED & set(file.relative_to(root).parts)


def _imported(entry: Path, root: Path) -> list[str]:
    """Return the files of modules below a repository that a script's text imports."""
    from modulefinder import ModuleFinder

    places = [str(entry.resolve().parent), *os.environ.get("PYTHONPATH", "").split(os.pathsep), str(root)]
    finder = ModuleFinder(
        path=[place for place in dict.fromkeys(places) if place and _is_own(Path(place).resolve(), root)]
    )
    # A script that is no Python, or no whole one, imports what can be read of it.
    with contextlib.suppress(Exception):
        finder.run_script(str(entry))
    return [file for module in finder.modules.values() if (file := getattr(module, "__file__", None))]


def untracked_among(git: _Git, top: Path, files: Sequence[Path]) -> list[str]:
    """Return the names, from the repository's top, of those files that no commit and no index has."""
    names = [str(file.relative_to(top.resolve())) for file in files]
    if not names:
        return []
    # Whatever a file is called, git is not to read a pattern into it.
    raw, _ = git.ask(LISTING_LIMIT, "--literal-pathspecs", "-C", str(top), "ls-files", "-z", "--", *names)
    tracked = set(raw.decode("utf-8", "replace").split("\0"))
    return [name[:500] for name in names if name not in tracked][:_OWN_LIMIT]


def _address(git: _Git) -> str | None:
    address = git.line("config", "--get", "remote.origin.url")
    if address is None:
        first = (git.line("remote") or "").split("\n")[0]
        address = git.line("config", "--get", f"remote.{first}.url") if first else None
    return hide_in_address(address)[:500] if address else None


def _state(git: _Git) -> str | None:
    for head, word in _STATES.items():
        if git.line("rev-parse", "--verify", "-q", head) is not None:
            return word
    return None


def _difference(git: _Git, commit: str | None) -> tuple[str | None, str | None, int]:
    against = ["HEAD"] if commit else ["--cached"]
    raw, whole = git.ask(
        DIFFERENCE_LIMIT, "diff", *against, "--no-color", "--no-ext-diff", "--no-textconv", "--submodule=short"
    )
    if not raw:
        return None, None if whole else f"the difference took over {TIME_LIMIT_S:.0f} s and was left out", 0
    text, hidden = hide_in_lines(raw.decode("utf-8", "replace"))
    cut = None if whole else f"the difference was cut after {len(raw):,} bytes"
    return text, cut, hidden


def _script(entry: Path | None) -> tuple[str | None, int]:
    if entry is None:
        return None, 0
    try:
        with entry.open("rb") as file:
            raw = file.read(SCRIPT_LIMIT + 1)
    except OSError:
        return None, 0
    if b"\0" in raw or len(raw) > SCRIPT_LIMIT:
        return None, 0
    return hide_in_lines(raw.decode("utf-8", "replace"))


def _name(entry: Path | None, top: Path) -> str | None:
    if entry is None:
        return None
    with contextlib.suppress(ValueError):
        return str(entry.resolve().relative_to(top.resolve()))[:500]
    return entry.name[:500]


class _Git:
    """Asks git in a folder, within one bound of time for all questions."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.program = folder, shutil.which("git")
        self.give_up = time.monotonic() + TIME_LIMIT_S

    def line(self, *words: str) -> str | None:
        """Return an answer without its last line end, None where git has none."""
        raw, whole = self.ask(64 * 1024, *words)
        return raw.decode("utf-8", "replace").rstrip("\n") if whole and raw else None

    def ask(self, limit: int, *words: str) -> tuple[bytes, bool]:
        """Return up to `limit` bytes of an answer, and whether that is all of it; nothing where git failed."""
        if self.program is None or time.monotonic() > self.give_up:
            return b"", self.program is None
        environment = {key: value for key, value in os.environ.items() if not key.startswith("GIT_")}
        environment |= {"GIT_OPTIONAL_LOCKS": "0", "GIT_TERMINAL_PROMPT": "0", "LC_ALL": "C"}
        try:
            with fork_safety.still:
                process = subprocess.Popen(
                    [self.program, "-c", "core.fsmonitor=false", "-c", "core.quotepath=false", *words],
                    cwd=self.folder,
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                    env=environment,
                )
        except OSError:
            return b"", True
        return self._answer(process, limit)

    def _answer(self, process: subprocess.Popen[bytes], limit: int) -> tuple[bytes, bool]:
        answer = b""
        assert process.stdout is not None
        with process, process.stdout as pipe:
            while len(answer) <= limit:
                left = self.give_up - time.monotonic()
                if left <= 0 or not select.select([pipe], [], [], left)[0]:
                    process.kill()
                    return b"", False
                piece = os.read(pipe.fileno(), 256 * 1024)
                if not piece:
                    return (answer, True) if process.wait() == 0 else (b"", True)
                answer += piece
            process.kill()
        return answer[:limit], False
