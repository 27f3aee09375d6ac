"""The surroundings of a run that a shell began, looked up beside the script in its working folder.

`python -m kinetrum.client.capture.shell_surroundings RUN PARTS` is started by `kinetrum begin`, which does not wait:
asking git takes several times as long as all else that it does. The code of such a run is what lies in the working
folder; the script that this process runs, and its packages, are Kinetrum's own.
"""

from __future__ import annotations

import os
import sys

_PARTS = frozenset({"code", "job"})


def start_looking(run: str, left_out: frozenset[str]) -> None:
    """Start the process that looks around, unless there is nothing to look for; loads nothing that is heavy."""
    if left_out >= _PARTS:
        return
    words = [sys.executable, "-m", "kinetrum.client.capture.shell_surroundings", run, ",".join(sorted(left_out))]
    nowhere = os.open(os.devnull, os.O_RDWR)
    try:
        # Whoever reads what `kinetrum begin` prints must not wait for this process to close it.
        streams = [(os.POSIX_SPAWN_DUP2, nowhere, stream) for stream in (0, 1, 2)]
        os.posix_spawn(sys.executable, words, os.environ, file_actions=streams, setsid=True)
    except OSError:
        # Without it the run lacks a description of its code, and nothing else.
        return
    finally:
        os.close(nowhere)


def main(run: str, left_out: frozenset[str]) -> None:
    """Look around and record what is found."""
    from pathlib import Path

    from kinetrum.client.capture.environment import look_around
    from kinetrum.client.recording import exit_report
    from kinetrum.client.recording.recorder import Recorder
    from kinetrum.client.sender.launch import start_sender
    from kinetrum.client.spool import spool
    from kinetrum.client.spool.run_addresses import address_in, read_kept

    spool.use_small_segments()
    exit_report.be_silent()
    root = spool.current_writer().root
    kept = read_kept(root, run)
    facts = look_around(left_out, Path.cwd(), None, None)
    if kept is not None and any(facts.values()):
        Recorder(address_in(kept)).write("surroundings", caught=facts)
        start_sender(root)


if __name__ == "__main__":
    main(sys.argv[1], frozenset(filter(None, sys.argv[2].split(","))))
