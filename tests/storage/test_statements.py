"""Where statements may be written as text, and who may read and write rows."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import kinetrum

SOURCE = Path(kinetrum.__file__).parent
STATEMENT = re.compile(r"^\s*\(?\s*(SELECT|INSERT|UPDATE|DELETE|REPLACE)\b(?=.)")
AS_TEXT = {
    "storage/db/database.py",
    "storage/db/migrate.py",
    "storage/runs/statements.py",
    "storage/search/driving_index.py",
    "storage/search/run_facets.py",
    "storage/search/run_groups.py",
    "storage/search/run_query.py",
    "storage/search/run_search.py",
    # The memory of fingerprints on the person's own machine, kept in SQLite without a package.
    "client/sender/fingerprints.py",
}
ROWS = {"query", "execute", "insert_many", "insert_rows", "named_rows", "one_row", "lock_rows", "records", "Prepared"}


def _trees() -> list[tuple[str, ast.Module]]:
    files = [path for path in SOURCE.rglob("*.py") if "__pycache__" not in path.parts]
    return [(path.relative_to(SOURCE).as_posix(), ast.parse(path.read_text(encoding="utf-8"))) for path in files]


def test_statements_are_text_only_where_a_reason_is_given() -> None:
    as_text = {
        name
        for name, tree in _trees()
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and STATEMENT.match(node.value)
    }
    assert as_text == AS_TEXT


def test_rows_are_read_and_written_in_storage_alone() -> None:
    elsewhere = {
        (name, alias.name)
        for name, tree in _trees()
        if not name.startswith("storage/")
        for node in ast.walk(tree)
        if isinstance(node, ast.ImportFrom) and node.module == "kinetrum.storage.db.database"
        for alias in node.names
        if alias.name in ROWS
    }
    assert elsewhere == set()
