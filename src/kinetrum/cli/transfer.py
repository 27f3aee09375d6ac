"""`export`, `import`, `spool`: archives between instances, and what waits to be delivered."""

from __future__ import annotations

import argparse
from typing import Any

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    export = commands.add_parser("export", help="a run, an experiment or an artifact as one archive (RO-Crate)")
    export.add_argument("ref", metavar="REF", help="frost-alarm/42, experiment:frost-alarm, artifact:nights, nights@3")
    export.add_argument("-o", "--output", required=True, metavar="FILE")
    export.add_argument("--without-files", action="store_true", help="leave out the bytes of stored files")
    export.add_argument("--license", default="", help="what others may do with it, for the archive's description")
    add_common(export, _export)
    import_ = commands.add_parser("import", help="take an archive in, with its identities and times; twice is fine")
    import_.add_argument("path", metavar="FILE")
    add_common(import_, _import)
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


def _export(given: argparse.Namespace) -> int:
    from kinetrum.client.moving import export

    size = export(
        given.ref, given.output, with_files=not given.without_files, license_text=given.license, project=given.project
    )
    if given.json:
        output.print_json({"path": given.output, "size_bytes": size})
    else:
        print(f"{given.output}: {output.size_text(size)}.")
    return 0


def _import(given: argparse.Namespace) -> int:
    from kinetrum.client.moving import import_

    found = import_(given.path, project=given.project)
    if given.json:
        output.print_json(found)
        return 0
    runs, versions = len(found["runs"]), len(found["versions"])
    known = f"; {len(found['known'])} were here already" if found["known"] else ""
    print(f"{runs} run{'' if runs == 1 else 's'} and {versions} version{'' if versions == 1 else 's'} imported from "
          f"{output.clean(found['source'])}{known}.")  # fmt: skip
    for remark in found["remarks"]:
        output.note(output.clean(remark))
    return 0


def _spool(given: argparse.Namespace) -> int:
    from kinetrum.client.draining import undelivered
    from kinetrum.client.refused import discard, set_aside
    from kinetrum.places import spool_folders

    if given.act == "send":
        return _send(given)
    if given.act == "discard":
        count = sum(discard(root) for root in spool_folders())
        print(f"{count} refused {'record' if count == 1 else 'records'} deleted.")
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
