"""The process that reads files of strangers, with bounded memory and time and no way to write.

`python -m kinetrum.actions.preview_process FORM` reads the file from its standard input, which must be a file that
can be searched, and prints the preview as JSON.
"""

from __future__ import annotations

import json
import resource
import sys
from dataclasses import asdict

MEMORY_BYTES, CPU_S = 4 * 1024**3, 10


def main() -> None:
    """Take the limits before anything that reads is even loaded."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from kinetrum.core.preview.apart import read_apart

    size = sys.stdin.buffer.seek(0, 2)
    sys.stdin.buffer.seek(0)
    json.dump(asdict(read_apart(sys.argv[1], sys.stdin.buffer, size)), sys.stdout)


if __name__ == "__main__":
    main()
