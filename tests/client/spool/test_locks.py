"""Locks of writers and senders: who lives is left alone, who died is cleared away."""

from __future__ import annotations

import fcntl
import os
import time
from pathlib import Path

import pytest

from kinetrum import locks
from kinetrum.client.sender.main import Sender, clear_unopened
from kinetrum.client.spool import complete_segment, spool
from kinetrum.places import make_private_folder


def test_a_sender_leaves_alone_a_writer_that_is_only_beginning(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root = tmp_path / "spool"
    sender = Sender(root)
    really = locks.take

    def take(path: Path) -> int | None:
        # The sender looks just when the folder is there and not yet locked.
        sender.round()
        return really(path)

    monkeypatch.setattr(locks, "take", take)
    writer = spool.Writer(root, must_open=True)
    sender.round()
    assert locks.is_held(writer.folder / "alive")
    assert (writer.folder / "000001.seg").exists() and not list((root / "opening").glob("*"))


def test_nobody_else_sees_who_records(tmp_path: Path) -> None:
    root = tmp_path / "new" / "spool"
    quick = complete_segment.CompleteSegment()
    quick.write(str(root))
    spool.Writer(root, must_open=True)
    for folder in (root.parent, root, root / "opening", root / "writers", root / "writers" / quick.writer):
        assert folder.stat().st_mode & 0o777 == 0o700, folder


def test_a_folder_that_is_there_stays_as_it_is(tmp_path: Path) -> None:
    shared = tmp_path / "shared"
    shared.mkdir(mode=0o755)
    make_private_folder(str(shared))
    assert shared.stat().st_mode & 0o777 == 0o755
    (shared / "file").write_text("")
    with pytest.raises(FileExistsError):
        make_private_folder(str(shared / "file"))
    with pytest.raises(NotADirectoryError):
        make_private_folder(str(shared / "file" / "below"))


def test_no_folder_is_made_where_one_stands_in_none(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    gone = tmp_path / "gone"
    gone.mkdir()
    monkeypatch.chdir(gone)
    gone.rmdir()
    with pytest.raises(FileNotFoundError):
        make_private_folder("spool")


def test_what_died_while_beginning_is_swept_a_day_after(tmp_path: Path) -> None:
    old, young = (tmp_path / "opening" / name for name in ("old", "young"))
    for folder in (old, young):
        folder.mkdir(parents=True)
        (folder / "host").write_text("somewhere")
    os.utime(old, (time.time() - 90_000,) * 2)
    clear_unopened(tmp_path)
    assert (old.exists(), young.exists()) == (False, True)


def test_who_asks_for_a_lock_is_not_kept_off_by_who_only_looks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "lock"
    path.touch()
    looking = path.open()
    fcntl.flock(looking, fcntl.LOCK_SH)
    assert not locks.is_held(path)
    monkeypatch.setattr(locks.time, "sleep", lambda _: looking.close())
    handle = locks.take(path)
    assert handle is not None and locks.is_held(path)
    assert locks.take(path) is None
