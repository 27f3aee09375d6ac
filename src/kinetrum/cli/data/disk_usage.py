"""`storage`, `purge`: room, and what takes it; and the check of the store for administrators."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.data.quotas import quota_lines
from kinetrum.cli.output import counted_things, paint, print_section, size_text
from kinetrum.cli.parser import Commands
from kinetrum.cli.terminal import beneath
from kinetrum.core.base.errors import NotFound
from kinetrum.core.base.values import JsonObject

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    storage = commands.add_parser("storage", help="what takes how much room in the project")
    add_common(storage, _storage)
    purge = commands.add_parser("purge", help="tell what purging the bin would free; with --yes free it for good")
    purge.add_argument("refs", nargs="*", metavar="REF", help="runs and versions in the bin; without one all of it")
    purge.add_argument("--keep-files", action="store_true", help="leave versions that only the purged runs generated")
    purge.add_argument("--yes", action="store_true", help="do it; it cannot be taken back")
    add_common(purge, _purge)


def add_check(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of `admin check`."""
    parser.add_argument("--copies", metavar="DIR", help="repair from copies anywhere below this folder, by content")
    parser.add_argument("--remove-orphans", action="store_true", help="remove files that nothing knows")
    parser.add_argument("--json", action="store_true")
    parser.set_defaults(run=_check_store)


def _storage(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.disk_usage import storage

    answer = storage(project=arguments.project)
    if arguments.json:
        output.print_json(answer)
        return 0
    print(
        f"{paint(size_text(answer['size_bytes']), 'strong')} in {answer['files']:,} stored files; "
        f"{size_text(answer['disk_free_bytes'])} free on the service's disk."
    )
    for line in quota_lines(answer["quota"], answer):
        print(line)
    if answer["binned_runs"] or answer["binned_versions"]:
        print(
            f"In the bin: {answer['binned_runs']} runs, {answer['binned_versions']} versions; "
            f"kinetrum purge would free {size_text(answer['frees_bytes'])} of files."
        )
    for title, rows, what in (
        ("Artifacts", answer["artifacts"], "versions"),
        ("Experiments", answer["experiments"], "runs"),
    ):
        print_section(title)
        output.print_table(
            [title[:-1].lower(), what, "files", "size", "held by it alone", "in the bin"],
            [
                [
                    row["name"],
                    f"{row['things']:,}",
                    f"{row['files']:,}",
                    size_text(row["size_bytes"]),
                    size_text(row["alone_bytes"]),
                    f"{row['binned']:,}",
                ]
                for row in rows
            ],
        )
    print(paint("A file that several hold counts in each of them, and once in the whole.", "quiet"))
    _print_people(answer["people"])
    return 0


def _purge(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.disk_usage import purge

    answer = purge(
        arguments.refs or None, only_tell=not arguments.yes, keep_files=arguments.keep_files, project=arguments.project
    )
    if arguments.json:
        output.print_json(answer)
        return 0
    for thing in answer["kept"]:
        print(f"{thing['reference']} stays: it {thing['why']}.")
    things = [*answer["runs"], *answer["versions"]]
    if not things:
        print("There is nothing to purge.")
        return 0
    what = counted_things(things)
    room = f"{answer['files']:,} {'file' if answer['files'] == 1 else 'files'} of {size_text(answer['size_bytes'])}"
    if answer["recorded_bytes"]:
        room += f", and about {size_text(answer['recorded_bytes'])} of records"
    if arguments.yes:
        print(f"{what} {'was' if len(things) == 1 else 'were'} purged, which freed {room}.")
        return 0
    print(f"{what} would be purged, freeing {room}: {', '.join(things[:12])}{' …' if len(things) > 12 else ''}.")
    output.note("Nothing was changed. Add --yes to do it; it cannot be taken back.")
    return 0


def _print_people(people: list[answers.TakenBy]) -> None:
    if people:
        print_section("Kept by")
        rows = [[one["person"], f"{one['versions']:,}", size_text(one["size_bytes"])] for one in people]
        output.print_table(["person", "versions", "size"], rows)


def _check_store(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.disk_usage import check_store, repair
    from kinetrum.client.transport.session import open_session

    session = open_session(wait=False)
    if arguments.copies and not Path(arguments.copies).is_dir():
        raise NotFound(f"{arguments.copies} is not a folder; give one with copies of files.", field="copies")
    faults, last = [], {"files": 0, "of_files": 0, "size_bytes": 0}
    for item in check_store(session, arguments.remove_orphans):
        if "state" in item:
            faults.append(item)
            if not arguments.json:
                _print_fault(item, arguments.remove_orphans)
        else:
            last = item
            if sys.stderr.isatty():
                done = f"{item['files']:,} of {item['of_files']:,} files, {size_text(item['size_bytes'])}"
                print(f"\r{done}\x1b[K", end="", file=beneath(sys.stderr), flush=True)
    if sys.stderr.isatty():
        print("\r\x1b[K", end="", file=beneath(sys.stderr))
    repaired = repair(session, faults, Path(arguments.copies)) if arguments.copies else []
    bad = [fault for fault in faults if fault["state"] in {"damaged", "missing"} and fault["sha256"] not in repaired]
    chain = session.service.get("/journal/chain")
    if arguments.json:
        output.print_json({"checked": last, "faults": faults, "repaired": repaired, "journal": chain})
        return 1 if bad or chain["fault"] else 0
    print(
        f"{last['files']:,} stored files of {size_text(last['size_bytes'])} were read; "
        + _verdict(bad, repaired, faults)
    )
    print(_chain_verdict(chain))
    return 1 if bad or chain["fault"] else 0


def _chain_verdict(chain: answers.ChainState) -> str:
    fault = chain["fault"]
    if fault:
        return paint(f"The journal was tampered with: at entry {fault['entry']}, {fault['why']}.", "bad")
    late = f"; {chain['unchained']:,} entries have no digest yet" if chain["unchained"] else ""
    return f"{chain['entries']:,} entries of the journal are as they were written{late}; digest {chain['digest'][:16]}…"


def _verdict(bad: list[dict[str, object]], repaired: list[str], faults: list[dict[str, object]]) -> str:
    if bad:
        hint = "" if repaired else "; --copies DIR repairs from copies"
        return paint(f"{len(bad)} are damaged or missing{hint}.", "bad")
    if repaired:
        return f"{len(repaired)} were repaired from copies."
    return "all are whole." if not faults else "all that is needed is whole."


def _print_fault(fault: JsonObject, removed: bool) -> None:
    holders = f", held by {', '.join(fault['held_by'][:6])}{' …' if len(fault['held_by']) > 6 else ''}"
    word = f"{fault['state']}{', removed' if fault['state'] == 'orphaned' and removed else ''}"
    tone = "good" if fault["state"] == "whole again" else "bad"
    print(
        f"{paint(word, tone)}  sha256:{fault['sha256'][:16]}…  {size_text(fault['size_bytes'])}"
        + (holders if fault["held_by"] else "")
    )
