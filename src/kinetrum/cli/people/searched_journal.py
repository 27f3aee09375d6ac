"""`admin journal`: searched and written; and `admin check`."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.output import moment
from kinetrum.cli.parser import Commands
from kinetrum.cli.people.accounts import open_service
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport.http import Service


def add_journal(commands: Commands) -> None:
    """Add `admin journal` and `admin check`."""
    from kinetrum.cli.data.disk_usage import add_check

    journal = commands.add_parser("journal", help="who did what: of the instance, or of --project; latest first")
    journal.add_argument("words", nargs="*", metavar="WORD", help="only entries in which all of these stand")
    journal.add_argument("--project", help="of this project only")
    journal.add_argument("--person", help="only what this person did")
    journal.add_argument("--since", metavar="MOMENT", help="2026-11-02 or 2026-11-02T08:00:00Z")
    journal.add_argument("--until", metavar="MOMENT", help="before then")
    journal.add_argument("--limit", type=int, default=50, help="how many: 50 without it")
    journal.add_argument("--json", action="store_true")
    journal.add_argument("-o", "--output", metavar="FILE", help="write all that fit there, as JSON Lines; - for here")
    journal.set_defaults(run=_journal)
    add_check(commands.add_parser("check", help="read every stored file and the journal's chain; name what is wrong"))


def _journal(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of

    service = open_service()
    path = path_of("projects", arguments.project, "journal") if arguments.project else "/journal"
    wanted = {
        "text": " ".join(arguments.words),
        "person": arguments.person,
        "since": _moment(arguments.since),
        "until": _moment(arguments.until),
    }
    wanted = {key: value for key, value in wanted.items() if value}
    if arguments.output:
        return _write_lines(service, f"{path}/lines", wanted, arguments.output)
    entries = service.get(path, limit=arguments.limit, **wanted)
    if arguments.json:
        output.print_json(entries)
        return 0
    if not entries:
        print("Nothing fits.")
        return 0
    rows = [
        [
            moment(one["at"]),
            one["person"] or "",
            one["act"],
            one["subject"],
            *([] if arguments.project else [one["project"] or ""]),
            one["token"],
            one["origin"],
        ]
        for one in entries
    ]
    heads = ["when", "who", "act", "what", *([] if arguments.project else ["project"]), "by token", "from"]
    output.print_table(heads, rows, keep=4)
    return 0


def _moment(text: str | None) -> str | None:
    """Return a moment as the interface takes it; a day begins at midnight, UTC."""
    if text is None:
        return None
    from datetime import UTC, datetime

    try:
        parsed = datetime.fromisoformat(text)
    except ValueError:
        raise InvalidInput(f"{text!r} is no moment; write 2026-11-02 or 2026-11-02T08:00:00Z.", field="since") from None
    return (parsed if parsed.tzinfo else parsed.replace(tzinfo=UTC)).isoformat()


def _write_lines(service: Service, path: str, wanted: dict[str, str | None], to: str) -> int:
    from kinetrum.cli.terminal import write_data
    from kinetrum.client.reading.table_export import save_stream

    with service.stream(path, wanted) as response:
        if to == "-":
            write_data(response.iter_bytes())
        else:
            size = save_stream(response.iter_bytes(), to)
            output.note(f"{to}: {size:,} bytes.")
    sys.stdout.flush()
    return 0
