"""Which runs repeat one another: the same settings but seeds, the same data, the same code."""

from __future__ import annotations

import hashlib
import json
from typing import TYPE_CHECKING

from kinetrum.core.query.indexing import index_forms

if TYPE_CHECKING:
    from kinetrum.core.base.run_document import RunDoc

SEEDS = ("seed",)
SEEDS_LIMIT = 16
_DIGITS = 24


def replicate_mark(doc: RunDoc) -> str | None:
    """Return what all replicates of a run share and no other run has: hexadecimal digits, or None.

    Settings are compared as values are (5 and 5.0 are the same, true is not 1). Data counts by its digest and role,
    code by commit, uncommitted difference and entry script. A run without settings and data repeats nothing.
    """
    params = sorted((key, index_forms(value)) for key, value in doc.params.items() if key not in doc.seeds)
    data = sorted({(link.digest, link.role or "") for link in doc.used})
    if not params and not data:
        return None
    code = [str(doc.code.get("commit") or ""), doc.texts.get("difference", ""), doc.texts.get("script", "")]
    packed = json.dumps([params, data, code], separators=(",", ":")).encode()
    return hashlib.sha256(packed).hexdigest()[:_DIGITS]
