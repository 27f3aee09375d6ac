"""Arguments that many commands share."""

from __future__ import annotations

import argparse
from collections.abc import Callable


def add_exact(parser: argparse.ArgumentParser) -> None:
    """Add the choice of a CSV that programs read exactly as recorded."""
    parser.add_argument(
        "--exact",
        action="store_true",
        help="with --csv: no apostrophe before texts that a spreadsheet would take for formulas",
    )


def add_common(parser: argparse.ArgumentParser, run: Callable[[argparse.Namespace], int]) -> None:
    """Add the project and the choice of JSON, and say what runs the command."""
    parser.add_argument("--project", help="the project, where it is not the one that references name or imply")
    parser.add_argument("--json", action="store_true", help="print what the service answers")
    parser.add_argument(
        "--wait",
        dest="waits_to_the_end",
        action="store_true",
        help="wait up to two minutes for what this machine recorded and cannot be delivered just now",
    )
    parser.set_defaults(run=run)
