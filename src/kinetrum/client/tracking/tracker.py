"""Recording a program from outside: its output, what it says in lines, what it writes into metrics files."""

from __future__ import annotations

import codecs
import contextlib
import json
import shutil
import subprocess
import threading
from collections import deque
from collections.abc import Sequence
from pathlib import Path

from kinetrum.client.capture.about import command_line
from kinetrum.client.capture.environment import look_around
from kinetrum.client.capture.figures.collecting import FigureFolder
from kinetrum.client.capture.standard_streams import Outlet
from kinetrum.client.recording.run import Run
from kinetrum.client.tracking.metric_files import Measured, MeasuredFile
from kinetrum.client.tracking.plot_files import PlottedFile
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.values import JsonObject
from kinetrum.core.text.directives import MARK, Directive, read_directive
from kinetrum.core.text.printed_lines import Fold, plain

LOOK_EVERY_S = 1.0
_LAST_LINES, _PROBLEMS_LIMIT = 30, 20
_INTERPRETER = "import json, sys; print(json.dumps([sys.version.split()[0], sys.path]))"


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

    def __init__(
        self, run: Run, measured: Sequence[MeasuredFile], keep_output: bool, figures: FigureFolder | None = None
    ) -> None:
        self.run = run
        self._figures = figures
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
                directive = read_directive(line)
                if directive is not None:
                    self._record(directive)
            except KinetrumError as error:
                self.problem(f"A printed line was not recorded: {error}")

    def record_line(self, line: str) -> None:
        """Record what one line says; raises InvalidInput for one that says nothing, and what recording raises."""
        directive = read_directive(line if line.lstrip().startswith("kinetrum:") else f"kinetrum: {line}")
        if directive is None:
            raise InvalidInput(f"{line!r} records nothing; write measure loss=0.3 step=7, for example.", field="line")
        self._record(directive)

    def _record(self, directive: Directive) -> None:
        run = self.run
        options: JsonObject = dict(directive.values)
        if directive.word == "set":
            run.set_params(directive.values)
        elif directive.word == "measure":
            run.measure(options, step=directive.step)
        elif directive.word == "result":
            run.result(options)
        elif directive.word == "progress":
            done, _, total = (directive.subject or "").partition("/")
            run._note_progress(int(done), float(total) if total else None, self._progress_since)
        elif directive.word == "used":
            run.used(directive.subject or "", **options)
        else:
            run.generated(directive.subject or "", step=directive.step, **options)

    def keep_plots(self, files: Sequence[PlottedFile]) -> None:
        """Keep what the program wrote as plots; what is none is told as a problem."""
        for file in files:
            try:
                self.run.plot.keep(file.name, file.plot())
            except KinetrumError as error:
                self.problem(str(error))

    def problem(self, text: str) -> None:
        """Tell something with the run, once, and not endlessly many."""
        if text not in self._problems and len(self._problems) < _PROBLEMS_LIMIT:
            self._problems.add(text)
            self.run._note_problem(text)

    @property
    def problems(self) -> list[str]:
        """What went wrong while recording."""
        return sorted(self._problems)

    def _look(self) -> None:
        while not self._ended.wait(LOOK_EVERY_S):
            self._read_files(False)
            self._take_figures()
            if self._outlet is not None:
                self._outlet.release()

    def _take_figures(self) -> None:
        if self._figures is not None:
            with self._lock:
                self._figures.take(self.run, self.problem)

    def _read_files(self, final: bool) -> None:
        with self._lock:
            for file in self._measured:
                try:
                    self._take(file, file.news(final))
                except KinetrumError as error:
                    self.problem(str(error))
                except OSError as error:
                    self.problem(f"The metrics file {file.path} cannot be read ({error.strerror}).")

    def _take(self, file: MeasuredFile, measured: Measured) -> None:
        for row in measured.rows:
            self.run.measure(row.values, step=row.step)
        if measured.results:
            self.run.result(measured.results)
        for name in measured.without_numbers:
            if name not in self._told_columns:
                self._told_columns.add(name)
                self.problem(f"{file.path}: {name!r} holds no numbers and was left out.")

    def finish(self) -> str:
        """Read everything once more; returns the last lines that were printed to stderr."""
        self._ended.set()
        self._thread.join(10)
        self._read_files(True)
        self._take_figures()
        if self._figures is not None:
            self._figures.remove()
        if self._outlet is not None:
            self._outlet.release(everything=True)
        return self._lines[1].reason()


def describe_command(run: Run, words: Sequence[str], left_out: frozenset[str]) -> threading.Thread:
    """Describe the command, its code and packages, and the CI job beside it, and record that."""

    def work() -> None:
        # Nothing that goes wrong here is worth more than a missing description.
        with contextlib.suppress(Exception):
            run._recorder.write("surroundings", caught=_around(words, left_out))

    thread = threading.Thread(target=work, name="kinetrum-surroundings", daemon=True)
    thread.start()
    return thread


def _around(words: Sequence[str], left_out: frozenset[str]) -> dict[str, object]:
    # Git is asked in the script's own folder, from which a path from here leads elsewhere.
    entry = next((Path(word).absolute() for word in words[1:] if Path(word).is_file()), None)
    about = {} if "command" in left_out else {"command": command_line(list(words))}
    python = None if "packages" in left_out else _interpreter(words[0])
    if python is not None:
        about["python"] = python[0]
    folder = entry.parent if entry else Path.cwd()
    return look_around(left_out, folder, entry, python[1] if python else None) | {"about": about}


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
        [interpreter, "-c", _INTERPRETER],
        capture_output=True,
        text=True,
        timeout=10,
        check=True,
        stdin=subprocess.DEVNULL,
    )
    version, paths = json.loads(answer.stdout)
    return version, paths
