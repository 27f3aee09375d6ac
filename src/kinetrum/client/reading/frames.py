"""The packages that frames need, which not everybody who records has."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

from kinetrum.core.base.errors import NotFound

if TYPE_CHECKING:
    from pandas import DataFrame
    from pyarrow import Table


def import_pandas() -> ModuleType:
    """Return the module pandas; raises NotFound that says how to get it."""
    try:
        return import_module("pandas")
    except ImportError:
        raise NotFound("A frame takes pandas: pip install 'kinetrum[pandas]'.") from None


def import_arrow() -> ModuleType:
    """Return the module pyarrow; raises NotFound that says how to get it."""
    try:
        return import_module("pyarrow")
    except ImportError:
        raise NotFound("A typed table takes pyarrow: pip install 'kinetrum[arrow]'.") from None


def to_frame(table: Table) -> DataFrame:
    """Return a pyarrow Table as a pandas DataFrame; whole numbers stay whole where some miss, lists are lists."""
    import pyarrow

    pandas = import_pandas()
    frame = table.to_pandas(types_mapper={pyarrow.int64(): pandas.Int64Dtype()}.get)
    for name, kind in zip(table.column_names, table.schema.types, strict=True):
        if pyarrow.types.is_list(kind):
            frame[name] = [None if value is None else list(value) for value in table.column(name).to_pylist()]
    return frame
