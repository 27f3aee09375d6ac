"""One cell of the run table: what a column asks of a run."""

from __future__ import annotations

from collections.abc import Mapping

from kinetrum.actions.runs.readers import RunView
from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.goals import aggregate_value
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.values import Value
from kinetrum.core.query.check import Catalogue, Settling
from kinetrum.core.query.parse import QueryError, parse_subject
from kinetrum.core.query.settled import Field, Key, Source
from kinetrum.storage.db.clock import iso

COLUMNS_LIMIT = 500
_HELD = {"param": "params", "label": "labels"}
_PREFIXES = {"param": "param:", "value": "metric:", "label": "label:"}


def read_columns(texts: list[str], catalogue: Catalogue) -> list[Source]:
    """Read columns such as `recall`, `param:depth`, `min(loss)`, `label:purpose`, `duration`; refuses unknown ones."""
    if len(texts) > COLUMNS_LIMIT:
        raise InvalidInput(f"{len(texts)} columns; at most {COLUMNS_LIMIT} are taken.", field="columns")
    settling = Settling(catalogue)
    try:
        sources = [settling.source(parse_subject(text)) for text in texts]
    except QueryError as error:
        raise InvalidInput(f"Columns: {str(error).partition(': ')[2]}", field="columns") from None
    if Field("note") in sources:
        raise InvalidInput(
            "Notes are long and many; they are not a column. Ask for them: has note, note like …", field="columns"
        )
    return sources


def heading(source: Source) -> str:
    """Name a column, so that no two things share a name: `param:depth`, `metric:recall`, `min(loss)`, `duration`."""
    if isinstance(source, Field):
        return source.name
    return (
        f"{source.aggregate}({source.name})" if source.aggregate != "shown" else _PREFIXES[source.scope] + source.name
    )


def cell_of(source: Source, view: RunView) -> tuple[bool, Value]:
    """Return (present, value) of a column for a run; a duration is in seconds, times are ISO 8601."""
    if isinstance(source, Field):
        value = _field(source.name, view)
        return value is not None, value
    return _key(source, view)


def _key(key: Key, view: RunView) -> tuple[bool, Value]:
    doc = view.doc
    if key.scope == "value" and key.aggregate != "shown":
        stats = doc.stats.get(key.name)
        value = None if stats is None else aggregate_value(stats, key.aggregate, view.goals.get(key.name))
        return stats is not None, value
    values: Mapping[str, Value] = view.values if key.scope == "value" else getattr(doc, _HELD[key.scope])
    return key.name in values, values.get(key.name)


def _field(name: str, view: RunView) -> Value:
    run = view.run
    if name == "duration":
        return None if run.ended_at is None else (run.ended_at - run.started_at).total_seconds()
    if name in {"commit", "code", "problem", "replicates"}:
        return view.doc.fields().get(name)
    plain: dict[str, Value] = {
        "number": run.number,
        "id": id_text(run.uid),
        "name": run.name,
        "status": run.status,
        "author": view.author,
        "host": run.host,
        "started": iso(run.started_at),
        "ended": iso(run.ended_at),
        "project": run.project,
        "experiment": run.experiment,
        "parent": id_text(run.parent_uid) if run.parent_uid else None,
    }
    return plain[name]
