"""Writing queries: names and values with the quotes they need, scopes made plain, the same table in code."""

from __future__ import annotations

import json
import math
import re
import shlex
from collections.abc import Callable, Sequence

from kinetrum.core.base.values import Value, special_name
from kinetrum.core.query.check import Catalogue, Settling
from kinetrum.core.query.parse import parse_query, parse_subject, subjects_of
from kinetrum.core.query.reading import read_number
from kinetrum.core.query.settled import Field, Source
from kinetrum.core.query.syntax import Subject

_PREFIXES = {"param": "param:", "value": "metric:", "label": "label:", "field": "run:"}
_KEYWORDS = frozenset({"and", "or", "not", "in", "is", "nan", "like", "within", "has", "used"})
_PLAIN = re.compile(r"""[^\s()\[\]{},=!<>"'.:]+(\.[^\s()\[\]{},=!<>"'.:]+)*\Z""")
_PARTS = re.compile(r"""(?:[^,"']|"[^"]*"|'[^']*')+""")


def word(text: str) -> str:
    """Write a name or value, in quotes where it needs them."""
    if _PLAIN.match(text) and text.lower() not in _KEYWORDS:
        return text
    return '"' + text.replace('"', '""') + '"'


def source_text(source: Source) -> str:
    """Write a source so that nothing else can be meant: `param:depth`, `min(metric:loss)`, `status`."""
    if isinstance(source, Field):
        # Fields come before everything else of their name.
        return source.name
    name = _PREFIXES[source.scope] + word(source.name)
    return f"{source.aggregate}({name})" if source.aggregate != "shown" else name


def value_text(value: Value) -> str:
    """Write a value as a query reads it."""
    if isinstance(value, bool) or value is None:
        return json.dumps(value)
    if isinstance(value, list):
        return f"[{', '.join(value_text(item) for item in value)}]"
    if isinstance(value, int | float):
        return str(value) if math.isfinite(value) else special_name(value).replace("Infinity", "inf")
    quoted = word(value)
    # What would be read as true or a number without quotes is a text here.
    meant = value in {"true", "false", "null"} or read_number(value) is not None
    return f'"{value}"' if quoted == value and meant else quoted


def written_test(source: Source, value: Value, present: bool = True) -> str:
    """Write the test that a source has a value, or none."""
    name = source_text(source)
    if not present:
        return f"not has {name}"
    if isinstance(value, float) and math.isnan(value):
        return f"{name} is nan"
    return f"{name} = {value_text(value)}"


def both(query: str, test: str) -> str:
    """Join a query with one more test."""
    if not query.strip():
        return test
    return f"({query}) and {test}" if re.search(r"\bor\b", query, re.I) else f"{query} and {test}"


def resolved_query(query: str, catalogue: Catalogue) -> str:
    """Return the query with a scope before every name, so that later names change nothing of what it means."""
    query = " ".join(query.splitlines())
    parsed = parse_query(query)
    if parsed is None:
        return ""
    settling, resolved = Settling(catalogue), query
    for subject in sorted(subjects_of(parsed), key=lambda subject: -subject.at):
        if subject.scope is None and subject.aggregate is None:
            resolved = _with_scope(resolved, subject, settling.source(subject))
    return resolved


def _with_scope(query: str, subject: Subject, source: Source) -> str:
    if isinstance(source, Field):
        return query
    return query[: subject.at - 1] + _PREFIXES[source.scope] + query[subject.at - 1 :]


def resolved_names(text: str, catalogue: Catalogue) -> list[str]:
    """Return names that commas separate, each with its scope; what no run has (yet) stays as it was written."""
    return [_resolved_name(part.strip(), catalogue) for part in _PARTS.findall(text) if part.strip()]


def _resolved_name(text: str, catalogue: Catalogue) -> str:
    name, colon, way = text.rpartition(":")
    if way not in {"asc", "desc"}:
        name, colon, way = text, "", ""
    try:
        source = Settling(catalogue).source(parse_subject(name))
    except ValueError:
        return text
    return f"{source_text(source)}{colon}{way}"


def in_python(
    project: str,
    experiment: str | None,
    query: str,
    columns: Sequence[str],
    sort: str,
    group: str | None = None,
    pareto: str = "",
) -> str:
    """Return the line of Python that reads the same table."""
    options = [
        ("experiment", experiment),
        ("columns", list(columns)),
        ("sort", sort),
        ("pareto", pareto),
        ("project", project),
    ]
    arguments = [_python(query)] if query else []
    arguments += [f"{name}={_python(value)}" for name, value in options if value]
    tail = f".groups({_python(group)})" if group else ".to_pandas()"
    return f"kinetrum.runs({', '.join(arguments)}){tail}"


def _python(value: object) -> str:
    if isinstance(value, list):
        return f"[{', '.join(_python(item) for item in value)}]"
    return json.dumps(value, ensure_ascii=False)


def in_shell(
    project: str,
    experiment: str | None,
    query: str,
    columns: Sequence[str],
    sort: str,
    group: str | None = None,
    pareto: str = "",
) -> str:
    """Return the command for a shell that prints the same table."""
    quote: Callable[[str], str] = shlex.quote
    parts = ["kinetrum runs"]
    # A query that begins with a dash would be taken for an option.
    parts += [quote(query)] if query and not query.startswith("-") else []
    parts += ["-e", quote(experiment)] if experiment else ["--all"]
    parts += ["--columns", quote(",".join(columns))] if columns else []
    parts += ["--sort", quote(sort)] if sort else []
    parts += ["--pareto", quote(pareto)] if pareto else []
    parts += ["--replicates"] if group == "replicates" else ["--group", quote(group)] if group else []
    parts += ["--project", quote(project)]
    return " ".join(parts)
