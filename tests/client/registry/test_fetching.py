"""Fetching for ever: a folder that is one version or the next, never half of both; told which; warned of what is wrong."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from pathlib import Path
from types import SimpleNamespace

import httpx
import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.client.registry import deployment
from kinetrum.client.registry.deployment import NOTE, Deployed, lay_out, lay_over
from kinetrum.core.base import errors
from tests.support.world import Project


def entry(path: str, content: bytes) -> dict[str, object]:
    import hashlib

    return {"path": path, "size": len(content), "sha256": hashlib.sha256(content).hexdigest()}


def version(number: int, files: dict[str, bytes]) -> Deployed:
    return Deployed([entry(path, content) for path, content in files.items()], {"version": number, "model": "m"})


def bring(files: dict[str, bytes]) -> deployment.Bring:
    def write(folder: Path) -> list[Path]:
        for path, content in files.items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(content)
        return [folder / path for path in files]

    return write


def never(folder: Path) -> list[Path]:
    raise AssertionError("nothing was to be brought")


ONE, TWO = {"net.bin": b"one", "deep/a.txt": b"1"}, {"net.bin": b"two"}


def names(folder: Path) -> list[str]:
    return sorted(str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file())


def test_a_version_takes_the_place_of_the_one_before(tmp_path: Path) -> None:
    deploy = tmp_path / "app" / "deploy"
    assert lay_out(version(1, ONE), deploy, bring(ONE), 0) == [deploy / "net.bin", deploy / "deep/a.txt"]
    assert names(deploy) == ["deep/a.txt", NOTE, "net.bin"]
    lay_out(version(2, TWO), deploy, bring(TWO), 0)
    assert (names(deploy), (deploy / "net.bin").read_bytes()) == ([NOTE, "net.bin"], b"two")
    assert json.loads((deploy / NOTE).read_text())["version"] == 2
    # The same once more brings nothing; what was harmed is brought anew.
    lay_out(version(2, TWO), deploy, never, 0)
    (deploy / "net.bin").write_bytes(b"owt")
    lay_out(version(2, TWO), deploy, bring(TWO), 0)
    assert (deploy / "net.bin").read_bytes() == b"two"
    assert [path.name for path in deploy.parent.iterdir()] == ["deploy"]


def test_so_many_earlier_ones_stay(tmp_path: Path) -> None:
    deploy = tmp_path / "deploy"
    for number in range(1, 6):
        files = {"net.bin": b"%d" % number}
        lay_out(version(number, files), deploy, bring(files), 2)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["deploy", "deploy.earlier-3", "deploy.earlier-4"]
    assert [(tmp_path / f"deploy.earlier-{at}" / "net.bin").read_bytes() for at in (3, 4)] == [b"3", b"4"]
    # A folder of that name that no fetch made is left alone.
    (tmp_path / "deploy.earlier-1").mkdir()
    (tmp_path / "deploy.earlier-1" / "mine.txt").write_text("mine")
    lay_out(version(6, ONE), deploy, bring(ONE), 0)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["deploy", "deploy.earlier-1"]
    with pytest.raises(errors.InvalidInput, match="Zero or more"):
        lay_out(version(7, TWO), deploy, bring(TWO), -1)


def test_what_no_fetch_put_there_is_never_taken_away(tmp_path: Path) -> None:
    deploy = tmp_path / "deploy"
    lay_out(version(1, ONE), deploy, bring(ONE), 0)
    (deploy / "notes.txt").write_text("mine")
    with pytest.raises(errors.Conflict, match=r"holds what no fetch of a version put there \(notes.txt\)"):
        lay_out(version(2, TWO), deploy, never, 0)
    lay_over(version(2, TWO), deploy, bring(TWO))
    assert names(deploy) == [NOTE, "net.bin", "notes.txt"]
    other = tmp_path / "other"
    other.mkdir()
    lay_out(version(1, ONE), other, bring(ONE), 0)  # An empty folder is as good as none.
    (tmp_path / "link").symlink_to(other)
    (tmp_path / "file").write_text("x")
    for place in ("link", "file"):
        with pytest.raises(errors.Conflict, match="is not a folder"):
            lay_out(version(2, TWO), tmp_path / place, never, 0)
    with pytest.raises(errors.Conflict, match=f"a file named {NOTE}"):
        lay_out(version(1, {NOTE: b"x"}), tmp_path / "new", never, 0)
    # A note that lies about what is a file of the version reaches nothing outside the folder.
    (tmp_path / "precious").write_text("x")
    (other / NOTE).write_text(
        json.dumps({"files": [{"path": "../precious"}, {"path": "net.bin"}, {"path": "deep/a.txt"}]})
    )
    lay_over(version(2, TWO), other, bring(TWO))
    assert (tmp_path / "precious").exists()


def test_what_breaks_off_leaves_everything_as_it_was(tmp_path: Path) -> None:
    deploy = tmp_path / "deploy"
    lay_out(version(1, ONE), deploy, bring(ONE), 0)

    def broken(folder: Path) -> list[Path]:
        bring(TWO)(folder)
        raise errors.Damaged("what arrived does not match")

    with pytest.raises(errors.Damaged):
        lay_out(version(2, TWO), deploy, broken, 0)
    assert (names(deploy), [path.name for path in tmp_path.iterdir()]) == (["deep/a.txt", NOTE, "net.bin"], ["deploy"])


_KILLED = """
import os, signal, sys
from pathlib import Path
from tests.client.registry.test_fetching import TWO, bring, version
from kinetrum.client.registry.deployment import lay_out
def die(folder):
    bring(TWO)(folder)
    os.kill(os.getpid(), signal.SIGKILL)
lay_out(version(2, TWO), Path(sys.argv[1]), die, 0)
"""


def test_a_kill_in_the_middle_leaves_the_earlier_version_and_the_next_fetch_clears_up(tmp_path: Path) -> None:
    deploy = tmp_path / "deploy"
    lay_out(version(1, ONE), deploy, bring(ONE), 0)
    killed = subprocess.run([sys.executable, "-c", _KILLED, str(deploy)], check=False, cwd=Path(__file__).parents[3])
    assert killed.returncode == -9
    assert len(list(tmp_path.glob(".deploy.*.fetching"))) == 1
    assert (deploy / "net.bin").read_bytes() == b"one"
    lay_out(version(2, TWO), deploy, bring(TWO), 0)
    assert [path.name for path in tmp_path.iterdir()] == ["deploy"]


def test_readers_never_see_half_of_two_versions(tmp_path: Path) -> None:
    deploy = tmp_path / "deploy"
    pairs = [{"a.txt": b"%d" % number, "b.txt": b"%d" % number} for number in range(40)]
    lay_out(version(0, pairs[0]), deploy, bring(pairs[0]), 0)
    seen: set[bytes] = set()
    ended = threading.Event()

    def read() -> None:
        while not ended.is_set():
            # Whoever opens the folder itself reads one version, whatever takes its place meanwhile.
            try:
                handle = os.open(deploy, os.O_RDONLY)
            except FileNotFoundError:
                seen.add(b"gone")
                continue
            try:
                contents = [os.open(name, os.O_RDONLY, dir_fd=handle) for name in ("a.txt", "b.txt")]
            except FileNotFoundError:
                continue
            finally:
                os.close(handle)
            one, two = (os.read(file, 10) for file in contents)
            seen.add(b"one" if one == two else b"half")
            for file in contents:
                os.close(file)

    reader = threading.Thread(target=read)
    reader.start()
    for number, files in enumerate(pairs[1:], 1):
        lay_out(version(number, files), deploy, bring(files), 0)
    ended.set()
    reader.join()
    assert seen == {b"one"}


@pytest.mark.parametrize("at_once", [True, False], ids=["exchanged", "in two steps"])
@pytest.mark.parametrize("before", [True, False], ids=["over another", "into nothing"])
def test_many_at_once_leave_one_whole_version(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, at_once: bool, before: bool
) -> None:
    deploy = tmp_path / "deploy"
    if not at_once:
        monkeypatch.setattr("kinetrum.client.registry.deployment.sys", SimpleNamespace(platform="another"))
    if before:
        lay_out(version(0, ONE), deploy, bring(ONE), 0)
    # Each fetch is about to take its place before the first one does.
    together = threading.Barrier(8, timeout=30)
    sets = [{"a.txt": b"%d" % number, "b.txt": b"%d" % number} for number in range(8)]
    problems: list[Exception] = []

    def fetch(number: int) -> None:
        def bring_together(folder: Path) -> list[Path]:
            paths = bring(sets[number])(folder)
            together.wait()
            return paths

        try:
            lay_out(version(number, sets[number]), deploy, bring_together, 1)
        except Exception as error:
            problems.append(error)

    threads = [threading.Thread(target=fetch, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert problems == []
    number = json.loads((deploy / NOTE).read_text())["version"]
    assert {path: (deploy / path).read_bytes() for path in sets[number]} == sets[number]
    assert [path.name for path in tmp_path.glob(".deploy.*")] == []
    for kept in tmp_path.glob("deploy.earlier-*"):
        assert _is_whole(kept)


def _is_whole(folder: Path) -> bool:
    return {entry["path"] for entry in json.loads((folder / NOTE).read_text())["files"]} == set(names(folder)) - {NOTE}


def test_a_stage_is_fetched_again_and_again(
    recording: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recording.registered(3)
    for number in (1, 2):
        recording.verdict(number, "approve")
    deploy = tmp_path / "deploy"
    for number, before in ((1, None), (2, 1)):
        recording.place("promotions", "production", version=number, expect=before)
        found = kinetrum.fetch("frost-alarm@production", deploy, keep=1)
        told = json.loads((deploy / NOTE).read_text())
        assert (found.version, found.stage, found.reference, found.warning) == (
            number,
            "production",
            f"frost-alarm@{number}",
            None,
        )
        assert (told["version"], told["stage"], told["digest"]) == (number, "production", found.digest)
        assert [path.read_bytes()[:9] for path in found] == [b"content %d" % (number - 1)]
    assert (tmp_path / "deploy.earlier-1" / "net.onnx").read_bytes().startswith(b"content 0")
    # Into the current folder the files are written in place.
    monkeypatch.chdir(tmp_path)
    (tmp_path / "app.py").write_text("mine")
    assert kinetrum.fetch("frost-alarm@1")[0].read_bytes().startswith(b"content 0")
    with pytest.raises(errors.Conflict, match="other content; choose another folder, or have it replaced"):
        kinetrum.fetch("frost-alarm@2")
    assert kinetrum.fetch("frost-alarm@2", replace=True).version == 2
    assert (tmp_path / "net.onnx").read_bytes().startswith(b"content 1") and (tmp_path / "app.py").exists()


def test_a_lock_lays_files_out_as_a_fetch_does(recording: Project, tmp_path: Path) -> None:
    recording.registered(2)
    lines = kinetrum.lock(["frost-alarm@1"], tmp_path / "one.lock")
    kinetrum.fetch_locked(tmp_path / "one.lock", tmp_path / "deploy")
    assert names(tmp_path / "deploy") == [NOTE, "net.onnx"]
    (tmp_path / "one.lock").write_text(f"{lines[0]}\n".replace("@1", "@1"))
    kinetrum.lock(["frost-alarm@2"], tmp_path / "two.lock")
    (found,) = kinetrum.fetch_locked(tmp_path / "two.lock", tmp_path / "deploy")
    assert (found.version, found[0].read_bytes()[:9]) == (2, b"content 1")


def test_what_is_wrong_with_a_version_is_told_wherever_it_is_fetched(
    recording: Project, raw: httpx.Client, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    recording.registered(2)
    path = recording.path("models", "frost-alarm", "versions")
    assert "Kinetrum-Warning" not in raw.get(f"{path}/1/files/net.onnx").headers
    recording.verdict(1, "reject")
    recording.service("maintainer").call("PUT", f"{path}/2/retirement", json={"retired": True, "comment": ""})
    for number, said in ((1, "version 1 is rejected"), (2, "version 2 is retired")):
        assert raw.get(f"{path}/{number}").json()["warning"] == said
        answers = [
            raw.get(f"{path}/{number}/files/net.onnx"),
            raw.get(f"{path}/{number}/bundle"),
            raw.head(f"{path}/{number}/files/net.onnx"),
        ]
        assert [(one.status_code, one.headers["Kinetrum-Warning"]) for one in answers] == [(200, said)] * 3
        with pytest.warns(UserWarning, match=f"was fetched, and {said}"):
            assert kinetrum.fetch(f"frost-alarm@{number}", tmp_path / f"v{number}").warning == said
        assert main(["fetch", f"frost-alarm@{number}", "-o", str(tmp_path / f"c{number}")]) == 0
        out, err = capsys.readouterr()
        assert f"Warning: {said}." in err and "Warning" not in out
        assert main(["fetch", f"frost-alarm@{number}", "-o", str(tmp_path / f"j{number}"), "--json"]) == 0
        out, err = capsys.readouterr()
        told = json.loads(out)
        assert (told["warning"], told["version"], told["reference"]) == (said, number, f"frost-alarm@{number}")
        assert main(["fetch", f"frost-alarm@{number}", "-o", str(tmp_path / f"s{number}"), "--strict"]) == 1
        assert f"was not fetched: {said}" in capsys.readouterr().err
        assert not (tmp_path / f"s{number}").exists()
    kinetrum.lock(["frost-alarm@1", "frost-alarm@2"], tmp_path / "both.lock")
    assert main(["fetch", "--locked", str(tmp_path / "both.lock"), "-o", str(tmp_path / "l"), "--strict"]) == 1
    assert not (tmp_path / "l").exists()


def test_the_head_of_a_file_says_what_its_body_would(recording: Project, raw: httpx.Client) -> None:
    recording.registered(1)
    path = recording.path("models", "frost-alarm", "versions", "1", "files", "net.onnx")
    whole, head = raw.get(path), raw.head(path)
    assert (head.status_code, head.content) == (200, b"")
    for name in ("content-length", "etag", "repr-digest", "kinetrum-version", "content-type"):
        assert head.headers[name] == whole.headers[name], name
    assert raw.head(path, headers={"If-None-Match": whole.headers["etag"]}).status_code == 304
    # Looking is no fetch.
    assert raw.get(recording.path("models", "frost-alarm", "fetches")).json()[0]["fetches"] == 1


def test_the_command_line_says_which_version_came(
    recording: Project, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    recording.registered(1)
    recording.verdict(1, "approve")
    recording.place("promotions", "production", version=1, expect=None)
    deploy = str(tmp_path / "deploy")
    for _ in range(2):
        assert main(["fetch", "frost-alarm@production", "-o", deploy]) == 0
        out, err = capsys.readouterr()
        assert out.strip() == f"{deploy}/net.onnx"
        assert err.startswith("frost-alarm@1 sha256:") and err.strip().endswith(
            f"on production: 1 file in {deploy}, verified."
        )
    assert main(["fetch", "frost-net@1", "-o", deploy, "--keep", "1"]) == 2
    assert "of versions of models alone" in capsys.readouterr().err
