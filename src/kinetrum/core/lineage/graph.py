"""Lineage: what came from what, as a graph that can be walked both ways, folded, and written as W3C PROV.

Nodes are versions of artifacts and of models, runs, and single files; an edge leads from what was there first to what
came of it. Standard: W3C PROV-DM and PROV-JSON (https://www.w3.org/submissions/prov-json/).
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from kinetrum.core.base.refs import by_numbers

BINNED = "in the bin"
Kind = Literal["file", "artifact", "run", "model", "group", "hidden"]
HIDDEN = "something that you may not see"


@dataclass(frozen=True)
class Node:
    """A thing in the graph. `id` is its kind and reference; `family` what it is one of: experiment, artifact, model.

    `detail` is a short word on it, such as a status; `gone` marks a tombstone. A group has `members` instead. A hidden
    one stands where links lead to what the asker may not see: one for each neighbour and way, however many there are.
    """

    id: str
    kind: Kind
    reference: str
    family: str
    detail: str = ""
    gone: bool = False
    stages: tuple[str, ...] = ()
    members: tuple[str, ...] = ()
    at: str = ""
    person: str = ""
    extra: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Edge:
    """From what was there first to what came of it: used, generated, registered, or began (a run its children)."""

    source: str
    target: str
    relation: Literal["used", "generated", "registered", "began"]
    role: str | None = None
    activity: str | None = None
    step: int | None = None
    at: str = ""


@dataclass(frozen=True)
class Graph:
    """A part of the lineage around `start`; `cut` tells that there is more than was followed."""

    start: str
    nodes: tuple[Node, ...]
    edges: tuple[Edge, ...]
    cut: bool = False


def hidden_node(neighbour: str, what: Literal["run", "version"], back: bool) -> Node:
    """Return what stands for all that a node leads to, one way, and that the asker may not see."""
    return Node(f"hidden:{'before' if back else 'after'} {what}/{neighbour}", "hidden", HIDDEN, what)


def distances(graph: Graph) -> dict[str, int]:
    """Return how many steps each node stands from the start: below zero it came before, above zero after.

    A node that can be reached both ways counts as before.
    """
    distance = {graph.start: 0}
    for sign, ends in ((-1, _neighbours(graph, back=True)), (1, _neighbours(graph, back=False))):
        reached = {graph.start: 0}
        waiting = deque([graph.start])
        while waiting:
            node = waiting.popleft()
            for other in ends.get(node, ()):
                if other not in reached:
                    reached[other] = reached[node] + sign
                    waiting.append(other)
        for node, steps in reached.items():
            distance.setdefault(node, steps)
    return distance


def _neighbours(graph: Graph, back: bool) -> dict[str, list[str]]:
    neighbours: dict[str, list[str]] = defaultdict(list)
    for edge in graph.edges:
        if back:
            neighbours[edge.target].append(edge.source)
        else:
            neighbours[edge.source].append(edge.target)
    return neighbours


def fold(graph: Graph, limit: int) -> Graph:
    """Return a graph of about `limit` nodes or fewer, in which nodes that are alike stand as one group.

    What lies in the bin and has the same neighbours is folded always. Beyond the limit, first those of one family with
    exactly the same neighbours are; where that is not enough, those of one family at the same distance; then those of
    one kind at the same distance. The start never is, and of two or three nothing is gained. Groups name their members,
    in order.
    """
    steps = distances(graph)
    neighbours: dict[str, set[tuple[str, str]]] = defaultdict(set)
    for edge in graph.edges:
        neighbours[edge.source].add(("out", edge.target))
        neighbours[edge.target].add(("in", edge.source))
    ways: list[Any] = [
        lambda node: (node.kind, node.family, frozenset(neighbours[node.id])),
        lambda node: (node.kind, node.family, steps.get(node.id, 0)),
        lambda node: (node.kind, "", steps.get(node.id, 0)),
    ]
    # What is in the bin is put together also where there would be room: nobody looks for it.
    folded = _folded(graph, lambda node: ways[0](node) if node.detail == BINNED else node.id)
    for alike in ways:
        if len(folded.nodes) <= limit:
            break
        folded = _folded(graph, alike)
    return folded


def _folded(graph: Graph, alike: Any) -> Graph:
    groups: dict[Any, list[Node]] = defaultdict(list)
    for node in graph.nodes:
        groups[alike(node) if node.id != graph.start else node.id].append(node)
    nodes, place = [], {}
    for at, members in enumerate(groups.values()):
        if members[0].kind == "hidden":
            nodes.append(members[0])
            place.update({node.id: members[0].id for node in members})
            continue
        if len(members) < 4:
            nodes += members
            place.update({node.id: node.id for node in members})
            continue
        made = _group(at, members)
        nodes.append(made)
        place.update({node.id: made.id for node in members})
    edges: dict[tuple[str, str, str], Edge] = {}
    for edge in graph.edges:
        source, target = place[edge.source], place[edge.target]
        known = edges.get((source, target, edge.relation))
        if source == target:
            continue
        fresh = replace(edge, source=source, target=target)
        if known is not None:
            # What several edges say differently, the one for all of them does not say.
            fresh = replace(
                known,
                role=known.role if known.role == edge.role else None,
                activity=known.activity if known.activity == edge.activity else None,
                step=None,
                at="",
            )
        edges[source, target, edge.relation] = fresh
    return Graph(graph.start, tuple(nodes), tuple(edges.values()), graph.cut)


def _group(at: int, members: Sequence[Node]) -> Node:
    families = {node.family for node in members}
    kind = members[0].kind
    what = {"run": "runs", "artifact": "versions", "model": "model versions", "file": "files"}.get(kind, "things")
    of = f" of {families.pop()}" if len(families) == 1 else ""
    stages = tuple(dict.fromkeys(stage for node in members for stage in node.stages))
    return Node(
        f"group:{at}",
        "group",
        f"{len(members):,} {what}{of}",
        members[0].family,
        kind,
        stages=stages,
        members=tuple(node.reference for node in members),
    )


def before_and_after(graph: Graph) -> tuple[list[Node], list[Node]]:
    """Return what the start came from, the furthest first, and what came of it, the nearest first."""
    steps = distances(graph)
    nodes = (node for node in graph.nodes if node.id in steps)
    ordered = sorted(nodes, key=lambda node: (steps[node.id], by_numbers(node.reference)))
    return (
        [node for node in ordered if steps[node.id] < 0],
        [node for node in ordered if steps[node.id] > 0],
    )


def lineage_sentence(graph: Graph, way: str = "both") -> str:
    """Say in one sentence what the start came from and what came of it; of a way that was not followed nothing."""
    nodes = {node.id: node for node in graph.nodes}
    start = nodes[graph.start]
    before, after = before_and_after(graph)
    subject = f"Run {start.reference}" if start.kind == "run" else start.reference
    least = "at least " if graph.cut else ""
    parts = []
    if way != "forth":
        parts.append(f"came from {least}{_counted(before)}" if before else "came from nothing that was recorded")
    if way != "back" and (after or start.kind != "model" or not parts):
        parts.append(f"led to {least}{_counted(after)}" if after else "led to nothing yet")
    standing = [f"{node.reference} on {' and '.join(node.stages)}" for node in (start, *after) if node.stages]
    sentence = f"{subject} {' and '.join(parts)}."
    return f"{sentence} In use: {', '.join(standing)} now." if standing else sentence


def _counted(nodes: Sequence[Node]) -> str:
    words = {
        "artifact": ("version", "versions"),
        "run": ("run", "runs"),
        "model": ("model version", "model versions"),
        "file": ("file", "files"),
    }
    counts = {kind: sum(1 for node in nodes if node.kind == kind) for kind in words}
    phrases = [f"{count:,} {words[kind][count != 1]}" for kind, count in counts.items() if count]
    phrases += [HIDDEN] if any(node.kind == "hidden" for node in nodes) else []
    return phrases[0] if len(phrases) == 1 else f"{', '.join(phrases[:-1])} and {phrases[-1]}"


PROV_PREFIX = "kinetrum"


def to_prov(graph: Graph, namespace: str) -> dict[str, Any]:
    """Return a graph as PROV-JSON: versions and files are entities, runs and their activities activities.

    What an edge names is always there; identifiers live in `namespace`, one for each project of an instance.
    """
    doc: dict[str, Any] = {"prefix": {PROV_PREFIX: namespace, "xsd": "http://www.w3.org/2001/XMLSchema#"}}
    parts: dict[str, dict[str, Any]] = defaultdict(dict)
    for node in graph.nodes:
        name = _prov_name(node.id)
        described = {"prov:label": node.reference, "prov:type": _typed(node.kind)} | _said(node)
        is_activity = node.kind == "run" or (node.kind == "hidden" and node.family == "run")
        parts["activity" if is_activity else "entity"][name] = described
        if node.person:
            agent = f"{PROV_PREFIX}:person/{_plain(node.person)}"
            parts["agent"][agent] = {"prov:label": node.person, "prov:type": _qualified("prov:Person")}
            relation = "wasAssociatedWith" if node.kind == "run" else "wasAttributedTo"
            subject = "prov:activity" if node.kind == "run" else "prov:entity"
            parts[relation][f"_:{relation}{len(parts[relation])}"] = {subject: name, "prov:agent": agent}
    for edge in graph.edges:
        _add_relation(parts, edge)
    return doc | {part: dict(entries) for part, entries in parts.items()}


def _said(node: Node) -> dict[str, Any]:
    fields = {f"{PROV_PREFIX}:{key}": value for key, value in node.extra.items() if value not in (None, "")}
    if node.gone:
        fields[f"{PROV_PREFIX}:purged"] = True
    times = {key: fields.pop(f"{PROV_PREFIX}:{key}", None) for key in ("startTime", "endTime")}
    return fields | {f"prov:{key}": value for key, value in times.items() if value and node.kind == "run"}


def _add_relation(parts: dict[str, dict[str, Any]], edge: Edge) -> None:
    source, target = _prov_name(edge.source), _prov_name(edge.target)
    if edge.relation == "began":
        name = f"_:wasStartedBy{len(parts['wasStartedBy'])}"
        parts["wasStartedBy"][name] = {"prov:activity": target, "prov:starter": source}
        return
    if edge.relation == "registered":
        name = f"_:wasDerivedFrom{len(parts['wasDerivedFrom'])}"
        parts["wasDerivedFrom"][name] = {"prov:generatedEntity": target, "prov:usedEntity": source}
        return
    run, entity = (target, source) if edge.relation == "used" else (source, target)
    doer = run
    if edge.activity:
        # A piece of a run is an activity of its own, which the run informed.
        doer = f"{run}/activity/{_plain(edge.activity)}"
        parts["activity"].setdefault(doer, {"prov:label": edge.activity, "prov:type": _typed("activity")})
        link = {"prov:informed": doer, "prov:informant": run}
        if link not in parts["wasInformedBy"].values():
            parts["wasInformedBy"][f"_:wasInformedBy{len(parts['wasInformedBy'])}"] = link
    relation = "used" if edge.relation == "used" else "wasGeneratedBy"
    relation_fields = {"prov:activity": doer, "prov:entity": entity}
    if edge.at:
        relation_fields["prov:time"] = edge.at
    if edge.role:
        relation_fields["prov:role"] = edge.role
    parts[relation][f"_:{relation}{len(parts[relation])}"] = relation_fields


def _prov_name(node: str) -> str:
    kind, _, reference = node.partition(":")
    return f"{PROV_PREFIX}:{kind}/{_plain(reference)}"


def _plain(text: str) -> str:
    """Write a text so that it can be the local part of a qualified name."""
    return "".join(c if c.isalnum() or c in "._-/@" else "".join(f"%{byte:02X}" for byte in c.encode()) for c in text)


def _typed(kind: str) -> dict[str, str]:
    return _qualified(f"{PROV_PREFIX}:{kind}")


def _qualified(name: str) -> dict[str, str]:
    return {"$": name, "type": "prov:QUALIFIED_NAME"}


def dangling(doc: Mapping[str, Any]) -> list[str]:
    """Return what relations of a PROV-JSON document name and nothing declares; readers let that pass silently."""
    declared = {name for part in ("entity", "activity", "agent") for name in doc.get(part, {})}
    named = (
        value
        for part, entries in doc.items()
        if part not in {"prefix", "entity", "activity", "agent"}
        for relation in entries.values()
        for key, value in relation.items()
        if key in _NAMES and isinstance(value, str)
    )
    return sorted(set(named) - declared)


_NAMES = frozenset(
    {
        "prov:entity",
        "prov:activity",
        "prov:agent",
        "prov:informed",
        "prov:informant",
        "prov:generatedEntity",
        "prov:usedEntity",
        "prov:starter",
    }
)
