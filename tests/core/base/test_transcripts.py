"""Every sentence and number of the rules is the one that was read in the last review; see `tests/core/transcripts`."""

from __future__ import annotations

import pytest

from tests.core.transcripts import FOLDER, lines_of
from tests.core.transcripts.topics import TOPICS


@pytest.mark.parametrize("topic", TOPICS)
def test_what_is_said(topic: str) -> None:
    kept = (FOLDER / f"{topic}.txt").read_text("utf-8").splitlines()
    now = "\n".join(lines_of(TOPICS[topic]())).splitlines()
    for before, after in zip(kept, now, strict=False):
        assert after == before
    assert len(now) == len(kept)


def test_no_transcript_is_left_over() -> None:
    assert {path.stem for path in FOLDER.glob("*.txt")} == set(TOPICS)
