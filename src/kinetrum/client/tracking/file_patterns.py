"""Inputs and outputs of a command, named by patterns: `[NAME=]GLOB`."""

from __future__ import annotations

import contextlib
import glob
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from kinetrum.client.data.copies import SourceFile
from kinetrum.client.recording.inputs_outputs import (
    artifact_name,
    described,
    record_generated_files,
    record_used,
    record_used_files,
)
from kinetrum.client.recording.recorder import Recorder
from kinetrum.core.base.errors import InvalidInput, KinetrumError
from kinetrum.core.base.manifests import FILE_LIMIT, check_path


@dataclass(frozen=True)
class Files:
    """Files that a pattern names, under an artifact's name; `named`: whether somebody chose that name."""

    name: str
    pattern: str
    named: bool = False

    def found(self, since_ns: int = 0) -> list[SourceFile]:
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
            return [SourceFile(path.absolute(), check_path(path.name)) for path in fresh]
        return [SourceFile(path.absolute(), check_path(path.relative_to(top).as_posix())) for path in fresh]


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
        return Files(artifact_name(name, pattern), pattern, named=True)
    plain_parts = [part for part in Path(pattern).parts if not glob.has_magic(part) and part not in {"/", "..", "."}]
    return Files(artifact_name(None, plain_parts[-1] if plain_parts else "files"), pattern)


def inputs_of(patterns: Sequence[str]) -> list[tuple[str, Files | None, list[SourceFile]]]:
    """Find the files that a command will use; a version (`nights@3`) has none.

    Raises InvalidInput where a pattern names nothing.
    """
    inputs: list[tuple[str, Files | None, list[SourceFile]]] = []
    for text in patterns:
        if "@" in text and "=" not in text and not glob.glob(text):
            inputs.append((text, None, []))
            continue
        files = files_of(text)
        files_found = files.found()
        if not files_found:
            raise InvalidInput(f"--used {text}: no file fits.", field="used")
        inputs.append((text, files, files_found))
    return inputs


def record_inputs(recorder: Recorder, inputs: Sequence[tuple[str, Files | None, list[SourceFile]]]) -> None:
    """Record what `inputs_of` found."""
    for text, files, files_found in inputs:
        if files is None:
            record_used(recorder, text, None, described("data"))
        else:
            address = str(Path(files.pattern).absolute())
            record_used_files(recorder, files_found, files.name, described("data"), address, named=files.named)


def record_outputs(
    recorder: Recorder, patterns: Sequence[Files], began_ns: int, problem: Callable[[str], None]
) -> None:
    """Record what a command generated: files that fit and were written since it began; what is wrong is told."""
    for files in patterns:
        try:
            files_found = files.found(began_ns)
            if not files_found:
                there = "what fits is from before" if files.found() else "no file fits"
                problem(f"--generated {files.pattern}: nothing was written; {there}.")
                continue
            record_generated_files(recorder, files_found, files.name, described("file"))
        except (KinetrumError, OSError) as error:
            problem(f"--generated {files.pattern}: {error}")


def now_ns(folder: Path) -> int:
    """Return the present moment as the clock of the file system tells it, which file times are compared with."""
    with contextlib.suppress(OSError):
        probe = folder / f".now-{os.getpid()}"
        probe.touch()
        moment = probe.stat().st_mtime_ns
        probe.unlink()
        return moment
    return time.time_ns()
