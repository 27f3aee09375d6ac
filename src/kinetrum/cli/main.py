"""`kinetrum`: where the command line begins. What shells call in loops is done with little, all else by `commands`."""

from __future__ import annotations

import sys

_QUICK = ("begin", "set", "result", "measure", "end")


def main(arguments: list[str] | None = None) -> int:
    """Run one command and return its exit status."""
    words = sys.argv[1:] if arguments is None else arguments
    if words and words[0] in _QUICK:
        if words[0] == "begin":
            from kinetrum.cli.recording.quick_begin import begin_quickly as quickly
        else:
            from kinetrum.cli.recording.quick import record_quickly as quickly

        status = quickly(words)
        if status is not None:
            return status
    from kinetrum.cli.commands import run_command

    return run_command(words)


if __name__ == "__main__":
    sys.exit(main())
