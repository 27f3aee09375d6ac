"""`spool`: what this machine recorded and no service has acknowledged, why, and what becomes of it."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput, NotFound

if TYPE_CHECKING:
    from kinetrum.client.spool.status import Undelivered

_SEND_S = 120.0
_ABOUT = """\
What this machine recorded and no service has acknowledged: where it goes, why it does not arrive, since when, and
when it is tried next.

  kinetrum spool                                       see what waits
  kinetrum spool send                                  wait until it is delivered
  kinetrum spool send --refused                        try once more what a service refused
  kinetrum spool redirect --to http://bench-2:7373     let what cannot be delivered go elsewhere
  kinetrum spool discard                               delete what a service refused
  kinetrum spool discard --waiting --yes               delete what cannot be delivered
"""


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    spool = commands.add_parser(
        "spool",
        help="what this machine recorded and the service has not acknowledged, and why",
        description=_ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    spool.add_argument(
        "act",
        nargs="?",
        choices=["list", "send", "redirect", "discard"],
        default="list",
        help="list what waits (without a word), deliver it now, let it go elsewhere, or delete it",
    )
    spool.add_argument("--refused", action="store_true", help="with send: try once more what was set aside")
    spool.add_argument("--from-host", metavar="HOST", help="with send: deliver here what a host that is gone recorded")
    spool.add_argument("--to", metavar="URL", help="with redirect: the service; without it, the one that you read from")
    spool.add_argument("--of", metavar="URL", help="with redirect and discard: only what was meant for this address")
    spool.add_argument("--waiting", action="store_true", help="with discard: what waits, not what was refused")
    spool.add_argument("--yes", action="store_true", help="with discard --waiting: do it; it cannot be taken back")
    spool.add_argument("--json", action="store_true", help="print everything that is known, as JSON")
    spool.set_defaults(run=_spool)


def _spool(arguments: argparse.Namespace) -> int:
    allowed = {
        "list": (),
        "send": ("refused", "from_host"),
        "redirect": ("to", "of"),
        "discard": ("of", "waiting", "yes"),
    }
    for option in ("refused", "from_host", "to", "of", "waiting", "yes"):
        if getattr(arguments, option) and option not in allowed[arguments.act]:
            raise InvalidInput(f"--{option.replace('_', '-')} does not go with 'spool {arguments.act}'; see --help.")
    act = {"list": _list, "send": _send, "redirect": _redirect, "discard": _discard}[arguments.act]
    return act(arguments)


def _list(arguments: argparse.Namespace) -> int:
    from dataclasses import asdict

    from kinetrum.client.spool.rejected import set_aside
    from kinetrum.client.spool.status import undelivered
    from kinetrum.places import spool_folders

    waiting = [(root, item) for root in spool_folders() for item in undelivered(root)]
    refused = [item for root in spool_folders() for item in set_aside(root)]
    if arguments.json:
        output.print_json({"waiting": [asdict(item) for _, item in waiting], "set_aside": refused})
        return 0
    if waiting:
        rows = [
            [
                item.writer[-12:],
                "recording" if item.alive else "ended",
                str(item.records),
                str(item.points),
                ", ".join(run[-10:] for run in item.runs[:4]),
                ", ".join(item.addresses),
            ]
            for _, item in waiting
        ]
        output.print_table(["writer", "", "records", "points", "runs", "to"], rows)
    else:
        print("Nothing waits.")
    for line in dict.fromkeys(_reason(root, item) for root, item in waiting):
        if line:
            print(output.paint(output.clean(line), "bad"))
    for aside in refused:
        record = aside["record"]
        text = f"set aside: {record['op']} of run {record['run'][-10:]}: {output.clean(aside['reason'])}"
        print(output.paint(text, "bad"))
    return 0


def _reason(root: Path, item: Undelivered) -> str | None:
    """Say why what one process recorded does not arrive; None where it is on its way."""
    import os

    from kinetrum import locks
    from kinetrum.client.sender.launch import sender_lock

    if item.obstacle:
        return f"left alone: {item.writer[-12:]}: {item.obstacle}"
    if os.environ.get("KINETRUM_SENDER") == "off":
        return "KINETRUM_SENDER=off: nothing is delivered from here; without it, 'kinetrum spool send' does."
    if item.obstruction is None:
        return None
    obstruction = item.obstruction
    where = (
        f"to {', '.join(item.addresses)}: " if not any(place in obstruction.reason for place in item.addresses) else ""
    )
    if locks.is_held(sender_lock(root)):
        after = max(0.0, obstruction.next_try - time.time())
        following = f"next try in {after:.0f} s" if after >= 1 else "tried again now"
    else:
        following = "tried again with the next 'kinetrum spool send' or recording"
    return f"{where}{obstruction.reason} Since {_moment(obstruction.since)}; {following}."


def _moment(seconds: float) -> str:
    from datetime import datetime

    then, now = datetime.fromtimestamp(seconds), datetime.now()
    return then.strftime("%H:%M:%S" if then.date() == now.date() else "%Y-%m-%d %H:%M")


def _send(arguments: argparse.Namespace) -> int:
    from kinetrum.client.sender.delivery import Delivery
    from kinetrum.client.sender.operations import RunCalls
    from kinetrum.client.spool.draining import drain
    from kinetrum.client.spool.rejected import send_again
    from kinetrum.client.transport.session import offer_token
    from kinetrum.places import spool_folders

    if arguments.from_host:
        folders = [path for root in spool_folders() for path in (root / "writers").glob("*")]
        if not [path for path in folders if Delivery(path).adopt(arguments.from_host)]:
            raise NotFound(f"Nothing in the spool was recorded on {arguments.from_host}; see 'kinetrum spool list'.")
    for root in spool_folders():
        offer_token(root)
        drain(root, _SEND_S, until_obstructed=True)
    print("Everything is delivered.")
    if arguments.refused:
        for root in spool_folders():
            calls = RunCalls(root)
            try:
                taken, refused = send_again(root, calls)
            finally:
                calls.close()
            if taken or refused:
                print(f"{taken} of what was set aside were taken now, {refused} were refused again.")
    return 0


def _redirect(arguments: argparse.Namespace) -> int:
    from kinetrum.client.sender.launch import start_sender
    from kinetrum.client.spool.redirection import redirect
    from kinetrum.client.transport.connection import check_url, find_connection
    from kinetrum.places import spool_folders

    connection = find_connection(check_url(arguments.to) if arguments.to else None)
    of = check_url(arguments.of) if arguments.of else None
    redirected = []
    for root in spool_folders():
        part = redirect(root, connection, of)
        redirected += part
        if part:
            start_sender(root)
    if arguments.json:
        from dataclasses import asdict

        output.print_json({"to": connection.url, "redirected": [asdict(item) for item in redirected]})
    elif redirected:
        places = ", ".join(sorted({place for item in redirected for place in item.addresses}))
        print(f"{_counted(redirected)} go to {connection.url} from now on, and not to {places}.")
    else:
        print(f"Nothing waits for {of}." if of else "Nothing that waits is held up, so nothing was redirected.")
    return 0


def _discard(arguments: argparse.Namespace) -> int:
    from kinetrum.client.spool.redirection import discard_waiting
    from kinetrum.client.spool.rejected import discard
    from kinetrum.client.transport.connection import check_url
    from kinetrum.places import spool_folders

    if not arguments.waiting:
        if arguments.of or arguments.yes:
            raise InvalidInput("--of and --yes go with 'spool discard --waiting'.")
        count = sum(discard(root) for root in spool_folders())
        print(f"{count} refused {'record' if count == 1 else 'records'} deleted.")
        return 0
    of = check_url(arguments.of) if arguments.of else None
    discarded = [item for root in spool_folders() for item in discard_waiting(root, of, only_tell=not arguments.yes)]
    if arguments.json:
        from dataclasses import asdict

        output.print_json({"discarded": arguments.yes, "waiting": [asdict(item) for item in discarded]})
    elif not discarded:
        print("Nothing was deleted: no process that has ended left records that cannot be delivered.")
    elif arguments.yes:
        print(f"{_counted(discarded)} deleted.")
    else:
        print(f"{_counted(discarded)} would be deleted.")
        output.note("Nothing was changed. Add --yes to do it; it cannot be taken back.")
    return 0


def _counted(items: Sequence[Undelivered]) -> str:
    records = sum(item.records + item.points for item in items)
    runs = len({run for item in items for run in item.runs})
    return f"{records} {'record' if records == 1 else 'records'} of {runs} {'run' if runs == 1 else 'runs'}"
