"""`fetch`, `keep`, `spool`: bytes in and out."""

from __future__ import annotations

import argparse
from typing import Any

from kinetrum.cli import output


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    fetch = commands.add_parser("fetch", help="download what a reference names, verified")
    fetch.add_argument("ref", metavar="REF", help="frost-alarm@production, nights@3, frost-alarm/42:frost-net")
    fetch.add_argument("-o", "--output", default=".", metavar="DIR")
    fetch.add_argument("--project")
    fetch.add_argument("--json", action="store_true")
    fetch.set_defaults(run=_fetch)
    keep = commands.add_parser("keep", help="store a file or folder without a run")
    keep.add_argument("path", metavar="PATH")
    keep.add_argument("--name", required=True)
    keep.add_argument("--kind", default="file")
    keep.add_argument("--project")
    keep.set_defaults(run=_keep)
    spool = commands.add_parser("spool", help="what this machine recorded and the service has not acknowledged")
    spool.add_argument("act", nargs="?", choices=["list", "send"], default="list")
    spool.add_argument("--json", action="store_true")
    spool.set_defaults(run=_spool)


def _fetch(given: argparse.Namespace) -> int:
    from kinetrum.client.reading import fetch

    paths = fetch(given.ref, given.output, project=given.project)
    if given.json:
        output.print_json([str(path) for path in paths])
    else:
        for path in paths:
            print(path)
        output.note(f"{len(paths)} file{'' if len(paths) == 1 else 's'} of {given.ref}, verified.")
    return 0


def _keep(given: argparse.Namespace) -> int:
    from kinetrum.client.registry import keep
    from kinetrum.client.session import open_session

    print(keep(given.path, name=given.name, kind=given.kind, session=open_session(given.project)))
    return 0


def _spool(given: argparse.Namespace) -> int:
    from kinetrum.client.draining import drain, set_aside, undelivered
    from kinetrum.places import spool_folder

    root = spool_folder()
    if given.act == "send":
        drain(root, 120.0)
        print("Everything is delivered.")
        return 0
    waiting, refused = undelivered(root), set_aside(root)
    if given.json:
        output.print_json({"waiting": [vars(item) for item in waiting], "set_aside": refused})
        return 0
    if waiting:
        rows = [[item.writer[-12:], "recording" if item.alive else "ended", str(item.records), str(item.points),
                 ", ".join(run[-10:] for run in item.runs[:4])] for item in waiting]  # fmt: skip
        output.print_table(["writer", "", "records", "points", "runs"], rows)
    else:
        print("Nothing waits.")
    for item in refused:
        record = item["record"]
        print(
            output.paint(
                f"set aside: {record['op']} of run {record['run'][-10:]}: {output.clean(item['reason'])}",
                "bad",
            )
        )
    return 0
