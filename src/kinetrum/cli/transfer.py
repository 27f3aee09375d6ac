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
    spool.add_argument(
        "act",
        nargs="?",
        choices=["list", "send", "discard"],
        default="list",
        help="discard deletes what was refused and set aside",
    )
    spool.add_argument("--refused", action="store_true", help="with send: try once more what was set aside")
    spool.add_argument("--from-host", metavar="HOST", help="with send: deliver here what a host that is gone recorded")
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
    from kinetrum.client.session import open_session
    from kinetrum.client.stored import keep

    print(keep(given.path, name=given.name, kind=given.kind, session=open_session(given.project)))
    return 0


def _spool(given: argparse.Namespace) -> int:
    from kinetrum.client.draining import undelivered
    from kinetrum.client.refused import discard, set_aside
    from kinetrum.places import spool_folders

    if given.act == "send":
        return _send(given)
    if given.act == "discard":
        count = sum(discard(root) for root in spool_folders())
        print(f"{count} refused records deleted.")
        return 0
    waiting = [item for root in spool_folders() for item in undelivered(root)]
    refused = [item for root in spool_folders() for item in set_aside(root)]
    if given.json:
        output.print_json({"waiting": [vars(item) for item in waiting], "set_aside": refused})
        return 0
    if waiting:
        rows = [[item.writer[-12:], "recording" if item.alive else "ended", str(item.records), str(item.points),
                 ", ".join(run[-10:] for run in item.runs[:4])] for item in waiting]  # fmt: skip
        output.print_table(["writer", "", "records", "points", "runs"], rows)
    else:
        print("Nothing waits.")
    for item in waiting:
        if item.obstacle:
            print(output.paint(f"left alone: {item.writer[-12:]}: {output.clean(item.obstacle)}", "bad"))
    for line in refused:
        record = line["record"]
        text = f"set aside: {record['op']} of run {record['run'][-10:]}: {output.clean(line['reason'])}"
        print(output.paint(text, "bad"))
    return 0


def _send(given: argparse.Namespace) -> int:
    from kinetrum.client.calls import RunCalls
    from kinetrum.client.delivery import Delivery
    from kinetrum.client.draining import drain
    from kinetrum.client.refused import send_again
    from kinetrum.core.errors import NotFound
    from kinetrum.places import spool_folders

    if given.from_host:
        folders = [path for root in spool_folders() for path in (root / "writers").glob("*")]
        if not [path for path in folders if Delivery(path).adopt(given.from_host)]:
            raise NotFound(f"Nothing in the spool was recorded on {given.from_host}; see 'kinetrum spool list'.")
    for root in spool_folders():
        drain(root, 120.0)
    print("Everything is delivered.")
    if given.refused:
        for root in spool_folders():
            calls = RunCalls(root)
            try:
                taken, refused = send_again(root, calls)
            finally:
                calls.close()
            if taken or refused:
                print(f"{taken} of what was set aside were taken now, {refused} were refused again.")
    return 0
