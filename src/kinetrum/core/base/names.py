"""What bounds names, loaded also by commands that must begin quickly."""

from __future__ import annotations

NAME_LIMIT = 100
# Words that mean something else in references.
RESERVED = frozenset({"last", "latest", "best", "lead"})
