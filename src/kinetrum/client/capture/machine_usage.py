"""What runs use of their machine over time, sampled by the sender beside them and not by the trainings themselves.

Of the writing process and everything below it: processor (100 % is one core), memory, bytes read and written on
disk. Of the machine: processor, memory, free disk at the process's folder, network. Graphics processors are asked
for where the tool of their driver is installed; on a machine without one this part is untested.
"""

from __future__ import annotations

import contextlib
import csv
import io
import os
import shutil
import subprocess
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

import psutil

from kinetrum.client.capture.host import host_identity
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.spool.segments import read_header
from kinetrum.core.base.samples import Samples
from kinetrum.core.base.values import JsonObject

FIRST_EVERY_S, LAST_EVERY_S, HELD_LIMIT = 2.0, 60.0, 2_000
_GPU_FIELDS = ("utilization.gpu", "memory.used")
Row = dict[str, float | int]


@dataclass
class Watched:
    """One writing process and what was sampled of it since the last delivery."""

    process: psutil.Process
    began: float = field(default_factory=time.monotonic)
    due: float = 0.0
    waiting: list[Row] = field(default_factory=list)
    last: dict[str, float] = field(default_factory=dict)


class ResourceWatch:
    """Samples in a thread of the sender's process; what could not be delivered is kept, thinned where it is much."""

    def __init__(self) -> None:
        self._watched: dict[str, Watched] = {}
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._gpu = shutil.which("nvidia-smi")
        self._thread = threading.Thread(target=self._work, name="resources", daemon=True)

    def watch(self, folder: Path) -> None:
        """Begin with the process that writes in this folder, unless it is watched already or runs elsewhere."""
        with self._lock:
            if folder.name in self._watched:
                return
            process = _process_of(folder)
            if process is not None:
                self._watched[folder.name] = Watched(process)
        if not self._thread.is_alive() and not self._stop.is_set():
            self._thread.start()

    def forget(self, name: str) -> None:
        """End with a process."""
        with self._lock:
            self._watched.pop(name, None)

    def take(self, name: str) -> tuple[str, Samples] | None:
        """Return what was sampled and not taken yet, with an id; None where that is nothing."""
        with self._lock:
            watched = self._watched.get(name)
            if watched is None or not watched.waiting:
                return None
            rows, watched.waiting = watched.waiting, []
        names = list(dict.fromkeys(name for row in rows for name in row))
        return new_id(), {name: [row.get(name) for row in rows] for name in names}

    def give_back(self, name: str, samples: Samples) -> None:
        """Keep for later what could not be delivered."""
        rows: list[Row] = [
            {key: value for key, column in samples.items() if (value := column[at]) is not None}
            for at in range(len(samples["at"]))
        ]
        with self._lock:
            watched = self._watched.get(name)
            if watched is not None:
                watched.waiting = rows + watched.waiting
                if len(watched.waiting) > HELD_LIMIT:
                    watched.waiting = watched.waiting[::2]

    def stop(self) -> None:
        """End."""
        self._stop.set()

    def _work(self) -> None:
        while not self._stop.wait(0.5):
            with self._lock:
                due = [one for one in self._watched.values() if time.monotonic() >= one.due]
            for one in due:
                moment = time.monotonic()
                # Often at first, then ever more rarely: a long run needs no sample of every second.
                elapsed = moment - one.began
                pause = min(LAST_EVERY_S, max(FIRST_EVERY_S if elapsed > 10 else 1.0, elapsed / 300))
                with contextlib.suppress(psutil.Error, OSError, ValueError):
                    row = self._sample(one, moment)
                    with self._lock:
                        one.waiting.append(row)
                one.due = moment + pause

    def _sample(self, one: Watched, moment: float) -> dict[str, float | int]:
        totals = _of_processes(one)
        memory, networks = psutil.virtual_memory(), psutil.net_io_counters(pernic=True)
        outside = [counters for name, counters in networks.items() if not name.startswith("lo")]
        totals["received"] = float(sum(counters.bytes_recv for counters in outside))
        totals["sent"] = float(sum(counters.bytes_sent for counters in outside))
        seconds = moment - one.last.get("moment", moment)
        row: dict[str, float | int] = {
            "at": time.time_ns() // 1000,
            "memory (bytes)": int(totals.pop("memory")),
            "processes": int(totals.pop("processes")),
            "machine cpu (%)": psutil.cpu_percent(),
            "machine memory (bytes)": memory.total - memory.available,
            "machine memory size (bytes)": memory.total,
            "machine cores": psutil.cpu_count() or 1,
        }
        with contextlib.suppress(psutil.Error, OSError):
            row["disk free (bytes)"] = shutil.disk_usage(one.process.cwd()).free
        if seconds > 0:
            rates = {
                "cpu": ("cpu (%)", 100.0),
                "read": ("disk read (bytes/s)", 1.0),
                "written": ("disk written (bytes/s)", 1.0),
                "received": ("network received (bytes/s)", 1.0),
                "sent": ("network sent (bytes/s)", 1.0),
            }
            for key, (name, factor) in rates.items():
                if key in totals and key in one.last:
                    row[name] = round(max(0.0, factor * (totals[key] - one.last[key]) / seconds), 1)
        one.last = totals | {"moment": moment}
        return row | self._sample_gpus()

    def _sample_gpus(self) -> dict[str, float | int]:
        if self._gpu is None:
            return {}
        query = [self._gpu, f"--query-gpu={','.join(_GPU_FIELDS)}", "--format=csv,noheader,nounits"]
        try:
            answer = subprocess.run(query, capture_output=True, text=True, timeout=2, check=True).stdout
        except (OSError, subprocess.SubprocessError):
            self._gpu = None
            return {}
        return read_gpus(answer)


def read_gpus(answer: str) -> dict[str, float | int]:
    """Read use (%) and memory (MiB) of each graphics processor from lines of comma-separated numbers."""
    usage: dict[str, float | int] = {}
    for number, cells in enumerate(csv.reader(io.StringIO(answer))):
        with contextlib.suppress(ValueError, IndexError):
            use, memory = float(cells[0]), float(cells[1])
            usage |= {f"gpu {number} (%)": use, f"gpu {number} memory (bytes)": int(memory * 2**20)}
    return usage


def _process_of(folder: Path) -> psutil.Process | None:
    """Return the process that writes in a folder, None where it runs on another machine or has ended."""
    for path in sorted(folder.glob("*.seg"))[-1:]:
        with contextlib.suppress(OSError, ValueError, psutil.Error):
            header = read_header(path)
            if header is not None and header.host == host_identity():
                return psutil.Process(header.process)
    return None


def _of_processes(one: Watched) -> dict[str, float]:
    """Sum up processor seconds, memory, and bytes on disk over a process and everything below it."""
    below = {child.pid: child for child in one.process.children(recursive=True)}
    # The sender, where this process started it, is not the training's.
    below.pop(os.getpid(), None)
    alive = {one.process.pid: one.process} | below
    totals: JsonObject = {"cpu": 0.0, "memory": 0.0, "read": 0.0, "written": 0.0, "processes": len(alive)}
    for process in alive.values():
        with contextlib.suppress(psutil.Error), process.oneshot():
            times = process.cpu_times()
            # Of those below that ended meanwhile, the parent knows what they used.
            totals["cpu"] += times.user + times.system + getattr(times, "children_user", 0.0)
            totals["cpu"] += getattr(times, "children_system", 0.0)
            totals["memory"] += process.memory_info().rss
            counters = process.io_counters()
            totals["read"] += counters.read_bytes
            totals["written"] += counters.write_bytes
    return totals
