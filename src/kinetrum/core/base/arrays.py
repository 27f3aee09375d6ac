"""Arrays of other libraries as NumPy's: without gradients, from whatever device they lie on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from numpy.typing import NDArray


def plain_array(values: Any) -> NDArray[Any]:
    """Return anything that is like an array as one; tensors lose their gradient, also in a list of them.

    Raises ValueError where rows have different lengths.
    """
    import numpy as np

    if isinstance(values, list | tuple):
        values = [np.asarray(detached(item)) if hasattr(item, "detach") else item for item in values]
    return np.asarray(detached(values))


def detached(value: Any) -> Any:
    """Return a tensor in the machine's memory and without its gradient; anything else as it is."""
    for name in ("detach", "cpu"):
        turn = getattr(value, name, None)
        if callable(turn):
            value = turn()
    return value
