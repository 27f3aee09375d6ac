"""Heads of columns in tables of runs."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


def head_of(goals: list[answers.Goal], column: answers.ChosenColumn) -> str:
    """Name a column; where the goal's direction is what counts, its arrow stands behind."""
    name = f"{column['aggregate']}({column['name']})" if column.get("aggregate") else column["name"]
    for goal in goals:
        if goal["key"] == column["name"] and column["scope"] == "value" and not column.get("aggregate"):
            return f"{name} {'↑' if goal['direction'] == 'higher' else '↓'}"
    return str(name)
