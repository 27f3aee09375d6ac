"""The packages that frames need, which not everybody who records has."""

from __future__ import annotations

from typing import Any

from kinetrum.core.errors import NotFound


def import_pandas() -> Any:
    """Return the module pandas; raises NotFound that says how to get it."""
    try:
        import pandas
    except ImportError:
        raise NotFound("A frame takes pandas: pip install 'kinetrum[pandas]'.") from None
    return pandas


def import_arrow() -> Any:
    """Return the module pyarrow; raises NotFound that says how to get it."""
    try:
        import pyarrow
    except ImportError:
        raise NotFound("A typed table takes pyarrow: pip install 'kinetrum[arrow]'.") from None
    return pyarrow
