"""What a shell offers at the tab key, also in a real bash."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

import kinetrum
from tests.cli.test_commands import Out, run
from tests.support.world import Project


@pytest.fixture
def offered(recording: Project, tmp_path: Path, capsys: Out):  # type: ignore[no-untyped-def]
    with kinetrum.begin("frost-alarm", params={"depth": 5}, goals={"recall": "higher"}) as begun:
        begun.result(recall=0.9)
    kinetrum.begin("frost-late", params={"depth": 6}).end()
    (tmp_path / "nights.csv").write_text("1")
    kinetrum.keep(tmp_path / "nights.csv", name="nights")
    begun.flush()

    def ask(line: str, *more: str) -> list[str]:
        status, shown, told = run(capsys, "completion", "--line", line, *more)
        assert (status, told) == (0, "")
        return shown.splitlines()

    return ask


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("kinetrum prom", ["promote"]),
        ("kinetrum admin ro", ["role"]),
        ("kinetrum zzz x", []),
        ("kinetrum spool s", ["send"]),
        ("kinetrum runs --exp", ["--experiment"]),
        ("kinetrum runs -e frost-a", ["frost-alarm"]),
        ("kinetrum runs -e ", ["frost-alarm", "frost-late"]),
        ("kinetrum show frost-alarm/", ["frost-alarm/1", "frost-alarm/best:recall", "frost-alarm/last"]),
        ("kinetrum show fro", ["frost-alarm/", "frost-late/"]),
        ("kinetrum show nig", ["nights@"]),
        ("kinetrum show nights@", ["nights@1", "nights@latest"]),
        ("kinetrum bin experiment:frost-l", ["experiment:frost-late"]),
        ("kinetrum runs -e frost-alarm --sort rec", ["recall"]),
        ("kinetrum runs -e frost-alarm --columns depth,rec", ["depth,recall"]),
        ("kinetrum compare frost-alarm/1 frost-late/", ["frost-late/1", "frost-late/last"]),
        ("kinetrum admin role wren app", ["approver"]),
        ("kinetrum whoami ", []),
        ("kinetrum show none/", []),
        ("kinetrum runs -e frost-alarm 'dep", ["depth"]),
        ("kinetrum runs -e frost-alarm 'depth = ", ["depth = 5"]),
    ],
)
def test_what_may_come_next(offered, line: str, wanted: list[str]) -> None:  # type: ignore[no-untyped-def]
    found = offered(line)
    assert [word for word in wanted if word not in found] == []
    if wanted == [] or not line.endswith(("'dep", "fro")):
        assert len(found) <= len(wanted) + 2, found


def test_words_that_bash_divides_at_colons(offered) -> None:  # type: ignore[no-untyped-def]
    assert offered("kinetrum bin experiment:frost-l", "--breaks", " \"'@><=;|&(:") == ["frost-late"]
    assert offered("kinetrum show nights@", "--breaks", " \"'@><=;|&(:") == ["1", "latest"]


def test_without_a_service_commands_are_offered_still(capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_URL", "http://127.0.0.1:9")
    assert run(capsys, "completion", "--line", "kinetrum prom") == (0, "promote\n", "")
    assert run(capsys, "completion", "--line", "kinetrum show fro") == (0, "", "")


def test_a_real_bash_completes(offered, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "kinetrum").write_text(f'#!/bin/sh\nexec {sys.executable} -m kinetrum.cli.main "$@"\n')
    (tmp_path / "kinetrum").chmod(0o755)
    script = """
eval "$(kinetrum completion bash)"
for line in "kinetrum prom" "kinetrum show frost-alarm/" "kinetrum bin experiment:frost-l"; do
    COMP_LINE=$line COMP_POINT=${#line}
    _kinetrum 2>/dev/null
    printf '%s ' "${COMPREPLY[@]}"; echo
done
"""
    environment = os.environ | {"PATH": f"{tmp_path}:{os.environ['PATH']}"}
    done = subprocess.run(["bash", "-c", script], capture_output=True, text=True, env=environment, check=False)
    assert done.stdout.splitlines() == [
        "promote ",
        "frost-alarm/1 frost-alarm/best:recall frost-alarm/last ",
        "frost-late ",
    ]


@pytest.mark.parametrize(
    ("shell", "part"), [("bash", "complete -o default"), ("zsh", "#compdef"), ("fish", "complete -c")]
)
def test_scripts_are_printed(shell: str, part: str, capsys: Out) -> None:
    status, shown, _ = run(capsys, "completion", shell)
    assert status == 0
    assert part in shown
