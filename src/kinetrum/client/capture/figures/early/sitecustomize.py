"""Loaded by Python at the start of a tracked program, by way of PYTHONPATH: notices when Matplotlib is imported.

Nothing is imported here that costs time, nothing is left on the module search path, and the program gets the
sitecustomize that it has without us. Written for every Python 3.7 and newer. Nothing that goes wrong in it reaches the
program.
"""

from __future__ import annotations

import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from importlib.machinery import ModuleSpec
    from types import ModuleType
    from typing import Any


class _Finder:
    """Finds one module, Matplotlib, as it is found without us, and prepares it once it is loaded."""

    def find_spec(self, name: str, path: object = None, target: object = None) -> ModuleSpec | None:
        """Return the module's specification with one more step after loading; None for any other module."""
        if name != "matplotlib":
            return None
        try:
            sys.meta_path.remove(self)
            from importlib.util import find_spec

            spec = find_spec(name)
            if spec is not None:
                _prepare_after_loading(spec.loader)
        except Exception:
            return None
        return spec


def _prepare_after_loading(loader: Any) -> None:
    load = loader.exec_module

    def exec_module(module: ModuleType) -> None:
        loader.exec_module = load
        load(module)
        try:  # noqa: SIM105  An import at the start of every program costs more.
            _watching().collect_figures(module, _FOLDER)
        except Exception:
            pass

    loader.exec_module = exec_module


def _watching() -> ModuleType:
    """Load the module that watches; under a name of its own, since the package need not be installed here."""
    from importlib.util import module_from_spec, spec_from_file_location

    spec = spec_from_file_location("kinetrum_figures", os.path.join(os.path.dirname(_HERE), "watching.py"))
    if spec is None or spec.loader is None:
        raise ImportError("watching.py is not there")
    module = module_from_spec(spec)
    sys.modules["kinetrum_figures"] = module
    spec.loader.exec_module(module)
    return module


def _give_way() -> None:
    """Give the program the sitecustomize that it has without us."""
    sys.path[:] = [path for path in sys.path if os.path.abspath(path) != _HERE]
    from importlib.machinery import PathFinder

    spec = PathFinder.find_spec("sitecustomize")
    if spec is not None and spec.loader is not None:
        from importlib.util import module_from_spec

        module = module_from_spec(spec)
        sys.modules["sitecustomize"] = module
        spec.loader.exec_module(module)


_HERE = os.path.dirname(os.path.abspath(__file__))
_FOLDER = os.environ.get("KINETRUM_FIGURES", "")
if _FOLDER and os.path.isdir(_FOLDER):
    sys.meta_path.insert(0, _Finder())
_give_way()
