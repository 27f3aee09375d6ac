"""Progress bars: on a terminal, in a notebook, and none where nobody watches."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from typing import Any


def make_bar(items: Iterable[object], options: dict[str, object]) -> Any:
    """Return a bar over items, with options of tqdm; shown on terminals and in notebooks unless told otherwise."""
    if in_kernel():
        options.setdefault("disable", False)
        if has_widgets():
            from tqdm.notebook import tqdm as bar_of_notebook

            return bar_of_notebook(items, **options)
    from tqdm import tqdm

    # None switches it off where standard error is no terminal.
    options.setdefault("disable", None)
    return tqdm(items, **options)


def in_kernel() -> bool:
    """Tell whether this process is the kernel of a notebook."""
    shell = getattr(sys.modules.get("IPython"), "get_ipython", lambda: None)()
    return shell is not None and getattr(shell, "kernel", None) is not None


def has_widgets() -> bool:
    """Tell whether the notebook can show widgets; without them a bar is a line of text."""
    from importlib.util import find_spec

    return find_spec("ipywidgets") is not None
