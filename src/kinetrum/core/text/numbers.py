"""Numbers as people read them."""

from __future__ import annotations


def signed(number: float) -> str:
    """Write a change with its sign and three significant digits: +0.031, −0.7, ±0."""
    if number == 0:
        return "±0"
    size = abs(number)
    text = f"{size:,.0f}" if size >= 1000 else f"{size:.3g}"
    return ("+" if number > 0 else "−") + text
