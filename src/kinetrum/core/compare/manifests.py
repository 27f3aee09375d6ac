"""Two lists of files side by side: what stands only in one, what changed, what moved, what is the same."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from kinetrum.core.base.manifests import FileEntry


class Finding(StrEnum):
    """What became of a file; `moved` is the same content under another path."""

    LEFT_ONLY = "only left"
    RIGHT_ONLY = "only right"
    CHANGED = "changed"
    MOVED = "moved"
    SAME = "same"


# A sign for each, so that nobody depends on colours.
SIGNS = {
    Finding.LEFT_ONLY: "−",
    Finding.RIGHT_ONLY: "+",
    Finding.CHANGED: "≠",
    Finding.MOVED: "→",
    Finding.SAME: "=",
}


@dataclass(frozen=True)
class FilePair:
    """One line of the difference; the side on which the file is not is None."""

    finding: Finding
    left: FileEntry | None
    right: FileEntry | None

    @property
    def path(self) -> str:
        """The path to sort by: left where there is one."""
        present = self.left or self.right
        assert present is not None, "a line of the difference is of a file on one side at least"
        return present.path


def compare_manifests(left: Sequence[FileEntry], right: Sequence[FileEntry]) -> list[FilePair]:
    """Compare two manifests; every file of either stands in exactly one line, by path.

    A file whose path is on both sides is the same or changed. Of the rest, equal content is a move, each file
    used once, those that kept their name first; time and space grow with the number of files.
    """
    theirs = {entry.path: entry for entry in right}
    pairs, gone = [], []
    for entry in left:
        other = theirs.pop(entry.path, None)
        if other is None:
            gone.append(entry)
        else:
            same = (entry.sha256, entry.size) == (other.sha256, other.size)
            pairs.append(FilePair(Finding.SAME if same else Finding.CHANGED, entry, other))
    pairs += _pair_moved(gone, list(theirs.values()))
    return sorted(pairs, key=lambda pair: pair.path)


def _pair_moved(gone: list[FileEntry], new: list[FileEntry]) -> list[FilePair]:
    moved: dict[str, FilePair] = {}
    arrived = {entry.path: entry for entry in new}
    # Files that kept their name find each other before any others do.
    for alike in (_named_content, _content):
        waiting: dict[tuple[object, ...], deque[FileEntry]] = defaultdict(deque)
        for entry in arrived.values():
            waiting[alike(entry)].append(entry)
        for entry in gone:
            if entry.path not in moved and waiting.get(alike(entry)):
                other = waiting[alike(entry)].popleft()
                moved[entry.path] = FilePair(Finding.MOVED, entry, other)
                del arrived[other.path]
    left = [FilePair(Finding.LEFT_ONLY, entry, None) for entry in gone if entry.path not in moved]
    return [*moved.values(), *left, *(FilePair(Finding.RIGHT_ONLY, None, entry) for entry in arrived.values())]


def _content(entry: FileEntry) -> tuple[object, ...]:
    return entry.sha256, entry.size


def _named_content(entry: FileEntry) -> tuple[object, ...]:
    return entry.sha256, entry.size, entry.path.rpartition("/")[2]


def count_findings(pairs: Sequence[FilePair]) -> dict[Finding, int]:
    """Return how many files there are of each finding, also where that is none."""
    counts = dict.fromkeys(Finding, 0)
    for pair in pairs:
        counts[pair.finding] += 1
    return counts


def difference_sentence(left: str, right: str, pairs: Sequence[FilePair]) -> str:
    """Say the difference in one sentence, such as 'nights@3 differs from nights@2 in 14 of 70 files: …'."""
    counts = count_findings(pairs)
    differing = len(pairs) - counts[Finding.SAME]
    if not differing:
        files = "1 file" if len(pairs) == 1 else f"all {len(pairs):,} files"
        return f"{left} and {right} hold the same content: {files} equal."
    words = [
        (counts[Finding.CHANGED], "changed"),
        (counts[Finding.RIGHT_ONLY], f"only in {right}"),
        (counts[Finding.LEFT_ONLY], f"only in {left}"),
        (counts[Finding.MOVED], "moved"),
    ]
    parts = ", ".join(f"{count:,} {what}" for count, what in words if count)
    return f"{left} and {right} differ in {differing:,} of {len(pairs):,} files: {parts}."
