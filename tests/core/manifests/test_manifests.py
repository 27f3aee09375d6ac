"""Two lists of files side by side, contents side by side, checkpoints: computed alone."""

from __future__ import annotations

import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.manifests import FileEntry, check_manifest, digest_of
from kinetrum.core.compare.contents import compare_contents
from kinetrum.core.compare.manifests import Finding, compare_manifests, count_findings, difference_sentence
from kinetrum.core.registry.checkpoints import Checkpoint, check_keep, to_release

LETTERS = "abcdef0123456789"


def entry(path: str, content: str = "a", size: int = 1) -> FileEntry:
    return FileEntry(path, size, content * 64)


def findings(left: list[FileEntry], right: list[FileEntry]) -> dict[str, str]:
    return {pair.path: pair.finding.value for pair in compare_manifests(left, right)}


def test_every_file_is_told_once() -> None:
    left = [entry("gone.csv", "a"), entry("old/kept.csv", "b"), entry("edited.csv", "c"), entry("equal.csv", "d")]
    right = [entry("new/kept.csv", "b"), entry("edited.csv", "e"), entry("equal.csv", "d"), entry("fresh.csv", "f")]
    assert findings(left, right) == {
        "gone.csv": "only left",
        "old/kept.csv": "moved",
        "edited.csv": "changed",
        "equal.csv": "same",
        "fresh.csv": "only right",
    }
    pairs = compare_manifests(left, right)
    assert difference_sentence("nights@2", "nights@3", pairs) == (
        "nights@2 and nights@3 differ in 4 of 5 files: 1 changed, 1 only in nights@3, 1 only in nights@2, 1 moved."
    )
    assert "all 2 files equal" in difference_sentence("a@1", "b@1", compare_manifests(left[:2], left[:2]))


def test_a_move_prefers_the_same_name() -> None:
    left = [entry("a/one.csv"), entry("a/two.csv")]
    right = [entry("b/zero.csv"), entry("b/two.csv"), entry("b/one.csv")]
    moved = {pair.left.path: pair.right.path for pair in compare_manifests(left, right) if pair.left and pair.right}
    assert moved == {"a/one.csv": "b/one.csv", "a/two.csv": "b/two.csv"}


manifests = st.dictionaries(st.text("abc/", min_size=1, max_size=4), st.sampled_from("abcd"), max_size=12)


@settings(max_examples=300, deadline=None)
@given(manifests, manifests)
def test_what_is_told_of_files_adds_up(left: dict[str, str], right: dict[str, str]) -> None:
    ours, theirs = ([entry(path, content) for path, content in side.items()] for side in (left, right))
    pairs = compare_manifests(ours, theirs)
    assert sorted(pair.left.path for pair in pairs if pair.left) == sorted(left)
    assert sorted(pair.right.path for pair in pairs if pair.right) == sorted(right)
    counts = count_findings(pairs)
    assert sum(counts.values()) == len(pairs)
    back = count_findings(compare_manifests(theirs, ours))
    assert back[Finding.LEFT_ONLY] == counts[Finding.RIGHT_ONLY]
    assert (back[Finding.CHANGED], back[Finding.MOVED]) == (counts[Finding.CHANGED], counts[Finding.MOVED])
    for pair in pairs:
        if pair.finding in {Finding.MOVED, Finding.SAME} and pair.left and pair.right:
            assert pair.left.sha256 == pair.right.sha256


def test_the_digest_knows_content_alone() -> None:
    plain, dated = entry("a.csv"), FileEntry("a.csv", 1, "a" * 64, 1_700_000_000_000_000, "s3://readings/a.csv")
    assert digest_of([plain]) == digest_of([dated])
    assert digest_of([plain]) != digest_of([entry("b.csv")])


@pytest.mark.parametrize(
    ("path", "what"),
    [
        ("../a", "does not stay inside"),
        ("/etc/passwd", "absolute"),
        ("a//b", "does not stay inside"),
        ("a\x00b", "control"),
        ("a\nb", "control"),
        ("a\\b", "absolute"),
        ("x" * 4_000, "over 1000 bytes"),
        ("", "empty"),
        ("a/" + "x" * 300, "over 255 bytes"),
        ("a\udcffb", "UTF-8"),
    ],
)
def test_odd_paths_are_refused(path: str, what: str) -> None:
    with pytest.raises(InvalidInput, match=what):
        check_manifest([entry(path)])


def test_tables_are_compared_by_their_columns() -> None:
    left = b"day,evening_c,note\n1,3.5,x\n2,4.5,y\n"
    right = b"day,evening_c,note\n1,1.7,x\n2,2.7,z\n"
    found = compare_contents("station-09.csv", left, right)
    assert found.sentence == (
        "station-09.csv differs in 2 of 3 columns: evening_c by -1.8 in all 2 rows, note in 1 of 2 rows."
    )
    assert [(column.name, column.rows) for column in found.columns] == [("evening_c", 2), ("note", 1)]
    assert found.columns[0].mean == pytest.approx(-1.8)
    assert found.columns[1].mean is None
    assert "-1,3.5,x" in found.text


def test_other_contents_are_compared_as_texts() -> None:
    assert (
        compare_contents("a.txt", b"one\ntwo\n", b"one\nthree\n").sentence
        == "a.txt differs: 1 line only left, 1 only right."
    )
    long = compare_contents("a.txt", b"", "".join(f"{at}\n" for at in range(3_000)).encode())
    assert (len(long.text.split("\n")), long.text.split("\n")[-1]) == (2_001, "… 1,003 more lines")
    assert "not text" in compare_contents("a.bin", b"\xff\xfe\x00\x81", b"x").sentence
    assert "same left and right" in compare_contents("a.txt", b"x", b"x").sentence
    # Another number of rows is no table of the same shape.
    assert not compare_contents("a.csv", b"a\n1\n", b"a\n1\n2\n").columns


def point(step: int, value: float | None = None) -> Checkpoint:
    return Checkpoint(step * 10, step, value)


def released(keep: str, *points: Checkpoint, higher: bool = True, final: bool = True) -> list[int]:
    return [found.step for found in to_release(points, keep, higher, final)]


def test_the_last_checkpoints_stay() -> None:
    assert released("2", point(3), point(1), point(2)) == [1]
    assert released("5", point(1)) == []


def test_the_best_checkpoint_stays() -> None:
    points = [point(1, 0.5), point(2, 0.9), point(3, 0.9), point(4, math.nan), point(5, None)]
    # The earlier of two equals; NaN is never best.
    assert released("best", *points) == [1, 3, 4, 5]
    assert released("best", *points, final=False) == [1, 3, 4]
    assert released("best:loss", point(1, 0.5), point(2, 0.4), higher=False) == [1]
    assert released("best", point(1), point(2)) == [1]


def test_what_may_still_be_measured_stays_until_the_end() -> None:
    waiting = [point(step) for step in (1, 2, 3)]
    assert to_release(waiting, "best", final=False) == []
    assert released("best", *waiting) == [1, 2]
    behind = [point(1), point(2, 0.4), point(3, 0.9), point(5), point(6)]
    # Nobody measures step 1 any more; 5 and 6 may be measured yet.
    assert [found.step for found in to_release(behind, "best", final=False, measured_to=4)] == [1, 2]
    assert [found.step for found in to_release(behind, "best", final=False, measured_to=6)] == [1, 2, 5, 6]


@pytest.mark.parametrize("keep", ["0", "-1", "worst", "best:", 0, True, 1.5, "99999", ""])
def test_what_is_no_choice_is_refused(keep: object) -> None:
    with pytest.raises(InvalidInput, match="keep is"):
        check_keep(keep)
    assert (check_keep(None), check_keep(3), check_keep("best:recall")) == (None, "3", "best:recall")
