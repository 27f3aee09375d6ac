"""What bounds names, loaded also by commands that must begin quickly."""

from __future__ import annotations

NAME_LIMIT = 100
# Words that mean something else in references.
# Addresses of the console and the interface, below which no project can be found.
RESERVED_FOR_PAGES = frozenset(
    {"account", "api", "assets", "embed", "instance", "journal", "people", "projects", "shared", "welcome"}
)
RESERVED = frozenset({"last", "latest", "best", "lead"})
