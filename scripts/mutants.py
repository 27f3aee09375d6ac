"""Say how many mutants of the core the tests caught, and list those that they did not and nobody has judged.

`scripts/mutants.py [PART ...]` reads what `mutmut run` left in `mutants/`; a part is the beginning of a module's name, as
in `kinetrum.core.registry`. Exits with 1 where fewer than nine in ten are caught. A survivor that changes nothing that
anybody could see is judged by a line in `tests/mutants-judged.txt`: its name, and why.
"""

import json
import sys
from collections import Counter, defaultdict
from pathlib import Path

ROOT = Path(__file__).parent.parent
JUDGED = ROOT / "tests" / "mutants-judged.txt"
WANTED = 0.9
# As mutmut keeps them: a test failed, ran for ever, or the mutant brought the interpreter down.
CAUGHT = frozenset({1, 3, -24, 24, 36, 152, 255, -9, -11, 37})
SURVIVED = 0


def outcomes() -> dict[str, int | None]:
    """Return what became of each mutant, by its name; None of those that were not tried."""
    found: dict[str, int | None] = {}
    for path in sorted((ROOT / "mutants").rglob("*.py.meta")):
        found |= json.loads(path.read_text("utf-8"))["exit_code_by_key"]
    return found


def judged() -> dict[str, str]:
    """Return the survivors that were judged, with the reason."""
    if not JUDGED.exists():
        return {}
    lines = [line for line in JUDGED.read_text("utf-8").splitlines() if line.strip() and not line.startswith("#")]
    return {name: reason.strip() for name, _, reason in (line.partition(" ") for line in lines)}


def part_of(name: str) -> str:
    """Return the module of a mutant: `kinetrum.core.statistics.noise.shares`."""
    return name.partition(".x")[0]


def main() -> None:
    """Print the table and the survivors; exit with 1 where too few are caught."""
    parts = tuple(sys.argv[1:]) or ("kinetrum.core",)
    tried = {name: code for name, code in outcomes().items() if code is not None and name.startswith(parts)}
    known = judged()
    counts: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for name, code in tried.items():
        word = "caught" if code in CAUGHT else "survived"
        counts[part_of(name)][word] += 1
        counts["all"][word] += 1
    for part, count in sorted(counts.items(), key=lambda pair: (pair[0] == "all", pair[0])):
        total = sum(count.values())
        print(f"{part:42} {count['caught']:5} of {total:5}  {100 * count['caught'] / total:5.1f} %")
    open_ones = [name for name, code in tried.items() if code not in CAUGHT and name not in known]
    for name in open_ones:
        print(f"to be judged: {name}")
    stale = [name for name in known if name in tried and tried[name] in CAUGHT]
    for name in stale:
        print(f"judged, and caught by now: {name}")
    total = sum(counts["all"].values())
    if not total or counts["all"]["caught"] < WANTED * total:
        sys.exit(1)


if __name__ == "__main__":
    main()
