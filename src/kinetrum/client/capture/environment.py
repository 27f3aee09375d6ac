"""What surrounds a run is caught by itself, beside it: packages, code, CI job.

The environment is never recorded: of it only the variables are read by which CI systems tell a job's address.
"""

from __future__ import annotations

import contextlib
import os
import re
import sys
import threading
import time
from collections.abc import Iterable, Mapping
from pathlib import Path

from kinetrum.client.capture import fork_safety
from kinetrum.client.capture.notebook_cells import cells_as_code, notebook_name
from kinetrum.client.recording.recorder import Recorder
from kinetrum.core.base.values import JsonObject
from kinetrum.core.text.secrets import hide_in_address, hide_in_lines

_FRESH_S = 60.0
_DISTRIBUTION = re.compile(r"^(?P<name>.+?)-(?P<version>[^-]+?)(?:-py\d[\d.]*)?\.(?:dist|egg)-info$")
# How CI systems and clusters tell a job's address or number, by the variables that they set.
_JOBS = (
    "{CI_JOB_URL}",
    "{BUILDKITE_BUILD_URL}#{BUILDKITE_JOB_ID}",
    "{CIRCLE_BUILD_URL}",
    "{TRAVIS_JOB_WEB_URL}",
    "{GITHUB_SERVER_URL}/{GITHUB_REPOSITORY}/actions/runs/{GITHUB_RUN_ID}",
    "{DRONE_BUILD_LINK}",
    "{CI_PIPELINE_URL}",
    "{SYSTEM_COLLECTIONURI}{SYSTEM_TEAMPROJECT}/_build/results?buildId={BUILD_BUILDID}",
    "{BITBUCKET_GIT_HTTP_ORIGIN}/pipelines/results/{BITBUCKET_BUILD_NUMBER}",
    "{BUILD_URL}",
    "Slurm job {SLURM_JOB_ID}",
    "PBS job {PBS_JOBID}",
)


def ci_job(environment: Mapping[str, str]) -> dict[str, str]:
    """Return the address (or number) of the CI job that this is, as the usual variables tell; empty elsewhere."""
    for form in _JOBS:
        names = re.findall(r"\{(\w+)\}", form)
        if all(environment.get(name) for name in names):
            job = form.format_map({name: environment[name] for name in names})
            return {"job": hide_in_address(job)[:500]}
    return {"job": "in CI"} if environment.get("CI", "").lower() in {"1", "true"} else {}


def packages_on(paths: Iterable[str]) -> dict[str, str]:
    """Return installed packages and their versions by the names of their metadata folders; nothing is imported.

    The folders' names follow "Recording installed projects" of the Python packaging specifications.
    """
    packages: dict[str, str] = {}
    for path in paths:
        with contextlib.suppress(OSError):
            for name in os.listdir(path or "."):
                match = _DISTRIBUTION.match(name)
                if match:
                    packages.setdefault(match["name"].replace("_", "-").lower(), match["version"])
    return dict(sorted(packages.items()))


def entry_script() -> Path | None:
    """Return the script that this process runs, None in a notebook or an interactive interpreter."""
    main = sys.modules.get("__main__")
    path = getattr(main, "__file__", None)
    if path is None or getattr(sys, "ps1", None) is not None or "ipykernel" in sys.modules:
        return None
    return Path(path).absolute()


_known: dict[str, tuple[float, dict[str, object]]] = {}
_is_for_a_shell = False
_looking = threading.Lock()


def look_around(
    left_out: frozenset[str],
    folder: Path,
    entry: Path | None,
    paths: Iterable[str] | None,
    modules: Iterable[str] = (),
) -> dict[str, object]:
    """Describe the code in a folder with its entry script and loaded modules (their files), the packages on paths
    (None: no Python), the CI job.
    """
    with fork_safety.still:
        from kinetrum.client.capture.code_state import find_code

    facts: dict[str, object] = {}
    if "code" not in left_out:
        code = find_code(folder, entry, modules)
        facts |= {"code": code.fields, "difference": code.difference, "script": code.script}
    if "packages" not in left_out and paths is not None:
        facts["packages"] = packages_on(paths)
    if "job" not in left_out:
        facts["job"] = ci_job(os.environ)
    return facts


def look_for_a_shell() -> None:
    """From now on the code is what lies in the working folder: this process records for a shell's script."""
    global _is_for_a_shell
    _is_for_a_shell = True


def _around_this_process(left_out: frozenset[str]) -> JsonObject:
    """Look around; what was found a moment ago still holds, since the code is loaded already."""
    if _is_for_a_shell:
        return look_around(left_out, Path.cwd(), None, None)
    entry = entry_script()
    key = f"{entry} {os.getcwd()} {sorted(left_out)}"
    with _looking:
        at, facts = _known.get(key, (0.0, {}))
        if not facts or time.monotonic() - at >= _FRESH_S:
            loaded = [file for module in list(sys.modules.values()) if (file := getattr(module, "__file__", None))]
            facts = look_around(left_out, entry.parent if entry else Path.cwd(), entry, sys.path, loaded)
            _known[key] = (time.monotonic(), facts)
        return facts


def _after_fork() -> None:
    global _looking
    _looking = threading.Lock()


os.register_at_fork(after_in_child=_after_fork)


class Looking:
    """Looks around beside the training, and records what it finds."""

    def __init__(self, recorder: Recorder, left_out: frozenset[str]) -> None:
        self._recorder, self._left_out = recorder, left_out
        self._told = ""
        self._fields: dict[str, object] = {}
        self._thread = threading.Thread(target=self._work, name="kinetrum-surroundings", daemon=True)
        if not {"code", "packages", "job"} <= left_out:
            self._thread.start()

    def _work(self) -> None:
        # Nothing that goes wrong here is worth a traceback in somebody's training.
        with contextlib.suppress(Exception):
            facts = _around_this_process(self._left_out)
            if "code" not in self._left_out:
                facts = facts | self._cells(facts.get("code"))
            if any(facts.values()):
                self._recorder.write("surroundings", caught=facts)

    def _cells(self, code: dict[str, object] | None) -> dict[str, object]:
        """Return the cells of a notebook as its code; nothing in a script."""
        text = cells_as_code()
        if text is None:
            return {}
        script, hidden = hide_in_lines(text)
        self._told = script
        self._fields = {**(code or {}), "entry": notebook_name(), "hidden_lines": hidden}
        return {"code": self._fields, "script": script}

    def _tell_cells_since(self) -> None:
        """Record the cells anew at the end: those that came since the run began are a part of its code."""
        if "code" not in self._left_out and cells_as_code() is not None:
            before, caught = self._told, self._cells(self._fields)
            if caught["script"] != before:
                self._recorder.write("surroundings", caught=caught)

    def finish(self, timeout_s: float = 15.0) -> None:
        """Wait until all is recorded."""
        if self._thread.ident is not None and self._thread is not threading.current_thread():
            self._thread.join(timeout_s)
        with contextlib.suppress(Exception):
            self._tell_cells_since()
