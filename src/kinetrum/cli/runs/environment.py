"""What `show` tells of a run while and after it goes on: output, code, use of the machine, activities, progress."""

from __future__ import annotations

import argparse
import sys
import textwrap
import time
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import paint
from kinetrum.client.reading.recorded_run import RecordedRun

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

_AT_ONCE, _PAUSE_S, _ROWS = 2_000, 0.7, 20
# What is the same in every row, or the time itself.
_CONSTANT = frozenset({"at", "machine memory size (bytes)", "machine cores"})


def show_surroundings(run: RecordedRun, arguments: argparse.Namespace) -> int:
    """Print the part that was asked for."""
    if arguments.code:
        return show_code(run, arguments)
    return show_resources(run, arguments) if arguments.resources else show_output(run, arguments)


def show_resources(run: RecordedRun, arguments: argparse.Namespace) -> int:
    """Print what the run used of its machine: a row for each stretch of its time, with the highest of each."""
    samples = run.resources(200 if arguments.json else _ROWS)
    if arguments.json:
        output.print_json(samples)
        return 0
    times = [int(at) for at in samples.get("at", []) if at is not None]
    if not times:
        print("Nothing was sampled; runs of a few seconds end before the first look.")
        return 0
    names = [name for name in samples if name not in _CONSTANT]
    rows = [
        [f"+{seconds(at - times[0])}", *[_amount(name, samples[name][row]) for name in names]]
        for row, at in enumerate(times)
    ]
    output.print_table(["until", *[name.partition(" (bytes")[0] for name in names]], rows, keep=4)
    return 0


def _amount(name: str, value: float | int | None) -> str:
    """Write a sample: bytes with their unit, everything else as a number."""
    if value is None:
        return "–"
    if "(bytes" not in name:
        return f"{value:.0f}"
    power = next((power for power in (4, 3, 2, 1) if value >= 1000**power), 0)
    unit = ("B", "kB", "MB", "GB", "TB")[power] + ("/s" if name.endswith("/s)") else "")
    return f"{value / 1000**power:.3g} {unit}"


def show_output(run: RecordedRun, arguments: argparse.Namespace) -> int:
    """Print what a run printed; with --follow go on until it has ended and everything has been shown."""
    at = 0
    while True:
        running = arguments.follow and run.refresh().status == "running"
        page = run.output_page(at, _AT_ONCE, arguments.stream, arguments.search)
        if at < page["tail_begin"] and page["head_end"] < page["tail_begin"] and not arguments.search:
            _print_with_gap(page, arguments.json)
        else:
            _print_lines(page["lines"], arguments.json)
        at = (page["lines"][-1]["number"] or 0) + 1 if page["more"] else max(at, page["next_line"])
        if page["more"]:
            continue
        if not running:
            _print_lines(page["unfinished"], arguments.json)
            return 0
        sys.stdout.flush()
        time.sleep(_PAUSE_S)


def _print_with_gap(page: answers.Output, as_json: bool) -> None:
    head = [line for line in page["lines"] if (line["number"] or 0) < page["head_end"]]
    tail = page["lines"][len(head) :]
    _print_lines(head, as_json)
    if tail:
        output.note(f"… {page['tail_begin'] - page['head_end']:,} lines were left out here …")
        _print_lines(tail, as_json)


def _print_lines(lines: list[answers.OutputLine], as_json: bool) -> None:
    from kinetrum.core.text.printed_lines import plain

    for line in lines:
        if as_json:
            output.print_json_line(line)
        elif output.coloured():
            output.print_styled(line["text"])
        else:
            print(plain(line["text"]))


def show_code(run: RecordedRun, arguments: argparse.Namespace) -> int:
    """Print the code, packages and job of a run; with --against what of them differs from another run."""
    surroundings = run.surroundings(arguments.against)
    if arguments.json:
        output.print_json(surroundings)
        return 0
    if surroundings["against"]:
        _show_differences(surroundings)
        return 0
    rows = [[key, str(value)] for key, value in (surroundings["code"] or {}).items() if value not in (None, 0)]
    rows += [[key, output.clean(text)] for key, text in surroundings["job"].items()]
    rows += [[key, output.clean(str(value))] for key, value in surroundings["about"].items()]
    output.print_table(["what", ""], [[key.replace("_", " "), output.clean(text)] for key, text in rows], keep=2)
    if surroundings["packages"]:
        print(f"\n{paint('Packages', 'strong')}")
        names = [f"{name} {version}" for name, version in surroundings["packages"].items()]
        print(textwrap.fill(", ".join(names), output.terminal_width(), break_on_hyphens=False))
    entry = str((surroundings["code"] or {}).get("entry") or "")
    cells = entry == "notebook" or entry.endswith(".ipynb")
    script = "Cells, in the order they were run" if cells else "Script, not known to git"
    for title, text in (("Uncommitted changes", surroundings["difference"]), (script, surroundings["script"])):
        if text:
            print(f"\n{paint(title, 'strong')}")
            _print_difference(text)
    if not rows and not surroundings["packages"]:
        print("Nothing was caught of its code and packages.")
    return 0


def _show_differences(surroundings: answers.Surroundings) -> None:
    print(paint(f"Against {surroundings['against']}", "strong"))
    words = {
        "same": "the same code",
        "unknown": "whether the code differs is not known",
        None: "",
        "other commit": "another commit",
        "other uncommitted changes": "the same commit, other uncommitted changes",
    }
    print(f"code: {words[surroundings['code_change']]}")
    here, there = surroundings["code"] or {}, surroundings["against_code"] or {}
    if here.get("commit") != there.get("commit"):
        print(f"commit {(there.get('commit') or 'none')[:12]} → {(here.get('commit') or 'none')[:12]}")
    for title, changes in (
        ("Packages", surroundings["package_changes"]),
        ("Surroundings", surroundings["about_changes"]),
    ):
        if changes:
            print(f"\n{paint(title, 'strong')}")
            rows = [
                [row["name"], output.clean(row["there"] or "–"), output.clean(row["here"] or "–")] for row in changes
            ]
            output.print_table(["", surroundings["against"] or "", "here"], rows, keep=3)
    if surroundings["code_change_text"]:
        print(f"\n{paint('Code', 'strong')}")
        _print_difference(surroundings["code_change_text"])


def _print_difference(text: str) -> None:
    tones = {"+": "good", "-": "bad", "@": "quiet"}
    for line in text.splitlines():
        print(paint(output.clean(line), tones.get(line[:1])))


def activity_rows(run: answers.RunDetail) -> list[list[str]]:
    """Return a row for each activity: name, when it began after the run, how long it took."""
    if not run["activities"]:
        return []
    first = min(activity["started_at"] for activity in run["activities"])
    rows = []
    for activity in run["activities"]:
        took = "" if activity["ended_at"] is None else seconds(activity["ended_at"] - activity["started_at"])
        state = "failed" if activity["failed"] else "" if activity["ended_at"] is not None else "running"
        rows.append([activity["name"], f"+{seconds(activity['started_at'] - first)}", took, state])
    return rows


def seconds(micros: int) -> str:
    """Write a length of time."""
    whole = micros / 1_000_000
    if whole < 60:
        return f"{whole:.1f} s"
    minutes, rest = divmod(round(whole), 60)
    return f"{minutes} min {rest:02d} s" if minutes < 60 else f"{minutes // 60} h {minutes % 60:02d} min"


def progress_line(run: answers.RunDetail) -> str | None:
    """Say how far a running run is, and when it is expected to end."""
    progress = run["progress"]
    if progress is None or run["status"] != "running":
        return None
    total = f" of {progress['total']:,}" if progress["total"] is not None else ""
    end = f", expected to end {output.moment(progress['expected_end'])}" if progress["expected_end"] else ""
    return f"{progress['done']:,}{total} done{end}"


def code_line(run: answers.RunDetail) -> str | None:
    """Say in a line which code ran."""
    code = run["code"]
    if not code or not code["commit"]:
        return None
    branch = f" on {output.clean(code['branch'])}" if code["branch"] else ""
    count = code["changed_files"]
    changed = f", {count} changed file{'' if count == 1 else 's'}" if count else ""
    return f"commit {code['commit'][:12]}{branch}{changed}"
