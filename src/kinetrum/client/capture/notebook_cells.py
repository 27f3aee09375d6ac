"""Cells of a notebook, or inputs of an interactive session: which one runs now, and all that ran as code."""

from __future__ import annotations

import gc
import inspect
import os
import re
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

CODE_LIMIT = 256 * 1024
_OUTPUT_NAMES = re.compile(r"_+|_\d+|_o\d*|Out|_oh")


@dataclass(frozen=True)
class Cell:
    """One execution of a cell: the cell's id where the notebook tells it, its code, and the number of the execution."""

    uid: str | None
    code: str
    execution: int

    def is_rerun_of(self, other: Cell) -> bool:
        """Tell whether this is another execution of the same cell."""
        if self.execution == other.execution:
            return False
        if self.uid is not None and other.uid is not None:
            return self.uid == other.uid
        return self.code == other.code


def current_shell() -> Any:
    """Return the interactive shell that runs this process's cells, None in a script."""
    module = sys.modules.get("IPython")
    return module.get_ipython() if module is not None and hasattr(module, "get_ipython") else None


def current_cell() -> Cell | None:
    """Return the cell that is being executed; None in a script."""
    shell = current_shell()
    if shell is None:
        return None
    inputs = shell.history_manager.input_hist_raw
    parent = shell.get_parent() if hasattr(shell, "get_parent") else {}
    uid = (parent or {}).get("metadata", {}).get("cellId")
    return Cell(uid, inputs[-1] if inputs else "", shell.execution_count)


def cells_as_code() -> str | None:
    """Return the executed cells in their order, each beneath a line with its number; None in a script.

    Of more than 256 KiB the earliest are left out, and counted.
    """
    shell = current_shell()
    if shell is None:
        return None
    # The first stands for what was before the first.
    inputs = list(enumerate(shell.history_manager.input_hist_raw))[1:]
    parts: list[str] = []
    size = 0
    for number, code in reversed(inputs):
        part = f"# %% [{number}]\n{code.rstrip()}\n"
        size += len(part.encode(errors="replace"))
        if size > CODE_LIMIT:
            parts.append(f"# {number} earlier cells are left out.\n")
            break
        parts.append(part)
    return "\n".join(reversed(parts))


def notebook_name() -> str | None:
    """Return the name of the notebook's file where its program tells it, else `notebook`; None in a script."""
    shell = current_shell()
    if shell is None:
        return None
    notebook = shell.user_ns.get("__vsc_ipynb_file__") or os.environ.get("JPY_SESSION_NAME") or ""
    name = Path(str(notebook)).name
    return name if name.endswith(".ipynb") else "notebook"


def is_referred_to(run: object) -> bool:
    """Tell whether anything but the shell's memory of outputs (`Out`, `_`, `_3`) refers to an object.

    In a script an object that its last name lets go of is gone; a shell that displayed it keeps it for ever.
    """
    shell = current_shell()
    names = shell.user_ns
    places = [names.get("Out"), names.get("_oh"), shell.history_manager.output_hist]
    places.append(getattr(shell, "user_ns_hidden", None))
    for place in (getattr(shell, "last_execution_result", None), getattr(shell, "displayhook", None)):
        places += [place, getattr(place, "__dict__", None)]
    # Loops, and no function within this one: that would itself refer to the object.
    for name, value in names.items():
        if value is run and not _OUTPUT_NAMES.fullmatch(name):
            return True
    places.append(names)
    referrers = gc.get_referrers(run)
    return any(
        not any(referrer is known for known in places) and not _is_only_looking(referrer) for referrer in referrers
    )


def _is_only_looking(referrer: object) -> bool:
    """Tell whether it is a frame or a list of the code that looks for unreferenced runs."""
    return inspect.isframe(referrer) and referrer.f_code.co_filename.startswith(str(Path(__file__).parents[1]))
