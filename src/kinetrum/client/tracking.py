"""Recording a program from outside: its output, what it says in lines, what it writes into files, what it used."""

from __future__ import annotations

import codecs
import contextlib
import glob
import json
import os
import shutil
import subprocess
import threading
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kinetrum.client.caught import ci_job, command_line, packages_on
from kinetrum.client.copies import Found
from kinetrum.client.linking import artifact_name, record_generated_files, record_used, record_used_files
from kinetrum.client.measured_files import Measured, MeasuredFile
from kinetrum.client.printing import Outlet
from kinetrum.client.repository import find_code
from kinetrum.client.run import Run
from kinetrum.client.spool import new_id
from kinetrum.core.errors import InvalidInput, KinetrumError
from kinetrum.core.manifests import FILE_LIMIT, check_path
from kinetrum.core.printed import Fold, plain
from kinetrum.core.said import MARK, Said, read_said

LOOK_EVERY_S = 1.0
_LAST_LINES, _PROBLEMS_LIMIT = 30, 20
_INTERPRETER = "import json, sys; print(json.dumps([sys.version.split()[0], sys.path]))"


@dataclass(frozen=True)
class Files:
    """Files that a pattern names, under an artifact's name."""

    name: str
    pattern: str

    def found(self, since_ns: int = 0) -> list[Found]:
        """Return the files that fit now and were changed since; paths are relative to the pattern's fixed part."""
        paths = sorted(Path(path) for path in glob.glob(self.pattern, recursive=True, include_hidden=False))
        if len(paths) == 1 and paths[0].is_dir():
            top = paths[0]
            paths = sorted(path for path in top.rglob("*") if path.is_file())
        else:
            top = _fixed_part(self.pattern)
            paths = [path for path in paths if path.is_file()]
        fresh = [path for path in paths if path.stat().st_mtime_ns >= since_ns]
        if len(fresh) > FILE_LIMIT:
            raise InvalidInput(f"{self.pattern} names over {FILE_LIMIT} files.", field="path")
        if len(paths) == 1 and "*" not in self.pattern and paths[0] == Path(self.pattern):
            return [Found(path.absolute(), check_path(path.name)) for path in fresh]
        return [Found(path.absolute(), check_path(path.relative_to(top).as_posix())) for path in fresh]


def _fixed_part(pattern: str) -> Path:
    """Return the folder before the first part of a pattern that has a wildcard."""
    fixed = Path()
    for part in Path(pattern).parts[:-1]:
        if glob.has_magic(part):
            break
        fixed /= part
    return fixed


def files_of(text: str) -> Files:
    """Read `[NAME=]GLOB`; without a name it is made of the last part that has no wildcard."""
    name, sign, pattern = text.partition("=")
    if not sign or "/" in name or glob.has_magic(name):
        name, pattern = "", text
    if not pattern:
        raise InvalidInput(f"{text!r} names no files; write [NAME=]GLOB.", field="path")
    if name:
        return Files(artifact_name(name, pattern), pattern)
    plain_parts = [part for part in Path(pattern).parts if not glob.has_magic(part) and part not in {"/", "..", "."}]
    return Files(artifact_name(None, plain_parts[-1] if plain_parts else "files"), pattern)


class Lines:
    """Finds the lines that record something in what a stream brings, and keeps the last lines for a reason."""

    def __init__(self) -> None:
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self._rest = b""
        self._fold = Fold("stderr")
        self.last: deque[str] = deque(maxlen=_LAST_LINES)

    def text(self, data: bytes) -> bytes:
        """Return what was printed as UTF-8, no character cut in two."""
        return self._decoder.decode(data).encode()

    def marked(self, data: bytes) -> list[str]:
        """Return complete lines that hold the mark."""
        data = self._rest + data
        if MARK not in data:
            # Only a line that may still become one is kept.
            last = data[data.rfind(b"\n") + 1 :]
            self._rest = last if len(last) < 4_096 else b""
            return []
        *lines, rest = data.split(b"\n")
        self._rest = rest if len(rest) < 65_536 else b""
        return [plain(line.decode("utf-8", "replace")).strip("\r") for line in lines if MARK in line]

    def keep_last(self, data: bytes) -> None:
        """Keep the last lines of what was printed."""
        piece = data[-8_000:].decode("utf-8", "replace")
        self.last.extend(line.text for line in self._fold.feed(piece, 0))

    def reason(self) -> str:
        """Return the last lines as plain text."""
        lines = [*self.last, *(line.text for line in self._fold.pending())]
        return "\n".join(plain(line) for line in lines[-_LAST_LINES:]).strip()


class Tracker:
    """Records into a run what a program prints and writes while it runs."""

    def __init__(self, run: Run, measured: Sequence[MeasuredFile], keep_output: bool) -> None:
        self.run = run
        self._measured = list(measured)
        self._outlet = Outlet(run._recorder) if keep_output else None
        self._lines = (Lines(), Lines())
        # Whether what was shown last ended its line, so that what is said after it begins one.
        self.ended_line = True
        self._lock = threading.RLock()
        self._problems: set[str] = set()
        self._told_columns: set[str] = set()
        self._progress_since = run._recorder.writer.now()
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._look, name="kinetrum-files", daemon=True)
        self._thread.start()

    def sink(self, stream: int, data: bytes) -> None:
        """Take what the program printed."""
        self.ended_line = data.endswith(b"\n")
        lines = self._lines[stream]
        text = lines.text(data)
        if self._outlet is not None:
            self._outlet.write(stream, text)
        if stream == 1:
            lines.keep_last(text)
        for line in lines.marked(text):
            self._say(line)

    def _say(self, line: str) -> None:
        with self._lock:
            try:
                said = read_said(line)
                if said is not None:
                    self._record(said)
            except KinetrumError as error:
                self.problem(f"A printed line was not recorded: {error}")

    def _record(self, said: Said) -> None:
        run = self.run
        options: dict[str, Any] = dict(said.values)
        if said.word == "set":
            run.set_params(said.values)
        elif said.word == "measure":
            run.measure(options, step=said.step)
        elif said.word == "result":
            run.result(options)
        elif said.word == "progress":
            done, _, total = (said.subject or "").partition("/")
            run._note_progress(int(done), float(total) if total else None, self._progress_since)
        elif said.word == "used":
            run.used(said.subject or "", **options)
        else:
            run.generated(said.subject or "", step=said.step, **options)

    def problem(self, text: str) -> None:
        """Tell something with the run, once, and not endlessly many."""
        if text not in self._problems and len(self._problems) < _PROBLEMS_LIMIT:
            self._problems.add(text)
            recorder = self.run._recorder
            recorder.write("problem", id=new_id(), text=text[:2_000], at=recorder.writer.now())

    @property
    def problems(self) -> list[str]:
        """What went wrong while recording."""
        return sorted(self._problems)

    def _look(self) -> None:
        while not self._ended.wait(LOOK_EVERY_S):
            self._read_files(False)
            if self._outlet is not None:
                self._outlet.release()

    def _read_files(self, final: bool) -> None:
        with self._lock:
            for file in self._measured:
                try:
                    self._take(file, file.news(final))
                except KinetrumError as error:
                    self.problem(str(error))
                except OSError as error:
                    self.problem(f"The metrics file {file.path} cannot be read ({error.strerror}).")

    def _take(self, file: MeasuredFile, found: Measured) -> None:
        for row in found.rows:
            self.run.measure(row.values, step=row.step)
        if found.results:
            self.run.result(found.results)
        for name in found.without_numbers:
            if name not in self._told_columns:
                self._told_columns.add(name)
                self.problem(f"{file.path}: {name!r} holds no numbers and was left out.")

    def finish(self) -> str:
        """Read everything once more; returns the last lines that were printed to stderr."""
        self._ended.set()
        self._thread.join(10)
        self._read_files(True)
        if self._outlet is not None:
            self._outlet.release(everything=True)
        return self._lines[1].reason()


def record_inputs(run: Run, given: Sequence[str]) -> None:
    """Record what the command uses, before it begins; raises InvalidInput where a pattern names nothing."""
    for text in given:
        if "@" in text and not glob.glob(text):
            record_used(run._recorder, text, name=None, role=None, kind="data", activity=None)
            continue
        files = files_of(text)
        found = files.found()
        if not found:
            raise InvalidInput(f"--used {text}: no file fits.", field="used")
        address = str(Path(files.pattern).absolute())
        record_used_files(run._recorder, found, files.name, None, "data", None, address)


def record_outputs(tracker: Tracker, given: Sequence[str], began_ns: int) -> None:
    """Record what the command generated: files that fit and were written since it began."""
    for text in given:
        files = files_of(text)
        try:
            found = files.found(began_ns)
            if not found:
                there = "what fits is from before" if files.found() else "no file fits"
                tracker.problem(f"--generated {text}: nothing was written; {there}.")
                continue
            record_generated_files(tracker.run._recorder, found, files.name, "file", None, None)
        except (KinetrumError, OSError) as error:
            tracker.problem(f"--generated {text}: {error}")


def began_ns(folder: Path) -> int:
    """Return the present moment as the clock of the file system tells it, which file times are compared with."""
    with contextlib.suppress(OSError):
        probe = folder / f".now-{os.getpid()}"
        probe.touch()
        found = probe.stat().st_mtime_ns
        probe.unlink()
        return found
    return time.time_ns()


def look_around(run: Run, words: Sequence[str], left_out: frozenset[str]) -> threading.Thread:
    """Describe command, code, packages and CI job beside the command, and record it."""

    def work() -> None:
        with contextlib.suppress(Exception):
            run._recorder.write("surroundings", caught=_around(words, left_out))

    thread = threading.Thread(target=work, name="kinetrum-surroundings", daemon=True)
    thread.start()
    return thread


def _around(words: Sequence[str], left_out: frozenset[str]) -> dict[str, Any]:
    found: dict[str, Any] = {"about": {}}
    if "command" not in left_out:
        found["about"]["command"] = command_line(list(words))
    if "code" not in left_out:
        entry = next((Path(word) for word in words[1:] if Path(word).is_file()), None)
        code = find_code(entry.absolute().parent if entry else Path.cwd(), entry)
        found |= {"code": code.fields, "difference": code.difference, "script": code.script}
    if "packages" not in left_out:
        found_python = _interpreter(words[0])
        if found_python is not None:
            found["about"]["python"], paths = found_python
            found["packages"] = packages_on(paths)
    if "job" not in left_out:
        found["job"] = ci_job(os.environ)
    return found


def _interpreter(program: str) -> tuple[str, list[str]] | None:
    """Ask the Python interpreter that a command runs in for its version and paths; None where it is not Python."""
    path = shutil.which(program)
    if path is None:
        return None
    interpreter: str | None = path if Path(path).name.startswith(("python", "pypy")) else None
    if interpreter is None:
        with Path(path).open("rb") as file:
            first = file.readline(512)
        words = first[2:].decode("utf-8", "replace").split() if first.startswith(b"#!") else []
        python = [word for word in words if Path(word).name.startswith(("python", "pypy"))]
        interpreter = shutil.which(python[0]) if python else None
    if interpreter is None:
        return None
    answer = subprocess.run(
        [interpreter, "-c", _INTERPRETER], capture_output=True, text=True, timeout=10, check=True,
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    version, paths = json.loads(answer.stdout)
    return version, paths
