"""Things killed, lost, repeated and delayed at random moments under load: a short set; `make soak` goes on longer."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.faults.world import World


@pytest.mark.soak
@pytest.mark.parametrize("seed", [1])
def test_every_completed_call_arrives_once_and_nothing_else(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KINETRUM_SPOOL", str(tmp_path / "spool"))
    world = World(tmp_path, seed)
    try:
        world.suffer(12)
        world.settle()
        assert world.check() > 100
    finally:
        world.stop()
