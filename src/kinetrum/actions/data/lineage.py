"""Walking the lineage: from a run, a version, a file or a model's version to what it came from and what came of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Literal

from kinetrum.actions.context import Actor, Place, enter, sight_of
from kinetrum.actions.data.artifact_versions import find_uses
from kinetrum.actions.registry.model_state import load_model
from kinetrum.actions.registry.version_lookup import pick_version
from kinetrum.actions.search.references import find_version, run_named
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.refs import RunRef, VersionRef, parse_ref
from kinetrum.core.lineage.graph import BINNED, Edge, Graph, Node, hidden_node
from kinetrum.storage.data import artifacts, links, manifests
from kinetrum.storage.data.artifacts import VersionRow
from kinetrum.storage.data.links import LinkRow
from kinetrum.storage.db.clock import iso
from kinetrum.storage.db.database import snapshot
from kinetrum.storage.people import people
from kinetrum.storage.registry import models, stage_records
from kinetrum.storage.runs import run_families, runs
from kinetrum.storage.runs.runs import Run

NODES_LIMIT = 20_000
ModelKey = tuple[int, int]
Relation = Literal["used", "generated", "registered", "began"]


@dataclass
class _Level:
    """What was reached in one step and is to be followed further."""

    runs: set[int] = field(default_factory=set)
    versions: set[int] = field(default_factory=set)
    models: set[ModelKey] = field(default_factory=set)

    def __bool__(self) -> bool:
        return bool(self.runs or self.versions or self.models)


class _Walk:
    """One walk, level by level, so that each level costs a handful of queries however wide it is.

    It goes through all projects that the actor may see. Where a link leads out of them, it ends at a hidden node.
    """

    def __init__(self, actor: Actor, place: Place, limit: int) -> None:
        self.place, self.limit, self.cut = place, limit, False
        self.sight = sight_of(actor)
        self.people = people.full_names()
        self.nodes: dict[str, Node] = {}
        self.edges: dict[tuple[str, str, str, str | None, str | None], Edge] = {}
        # A version may stand in the graph as the file in it which was asked for, or as another of the same content.
        self.run_names: dict[int, str] = {}
        self.version_names: dict[int, str] = {}

    def add_edge(self, edge: Edge) -> None:
        self.edges.setdefault((edge.source, edge.target, edge.relation, edge.role, edge.activity), edge)

    def run_nodes(self, run_ids: Iterable[int]) -> dict[int, str]:
        """Add runs as nodes; returns the names of all that were met so far."""
        fresh = sorted(set(run_ids) - self.run_names.keys())
        for run in runs.runs_by_ids(fresh):
            if self.sight.covers(run.project_id):
                node = self._run(run)
                self.nodes[node.id] = node
                self.run_names[run.run_id] = node.id
        return self.run_names

    def _run(self, run: Run) -> Node:
        reference = self.sight.name_from(self.place, run.project_id, run.reference)
        return Node(
            f"run:{reference}",
            "run",
            reference,
            run.experiment,
            run.status,
            run.purged_at is not None,
            at=iso(run.started_at) or "",
            person=self.people.get(run.author_id, ""),
            extra={
                "startTime": iso(run.started_at),
                "endTime": iso(run.ended_at),
                "name": run.name,
                "status": run.status,
                "host": run.host,
            },
        )

    def version_nodes(self, version_ids: Iterable[int]) -> dict[int, str]:
        """Add versions as nodes, unless something stands for them; returns the names of all that were met so far."""
        fresh = sorted(set(version_ids) - self.version_names.keys())
        for row in artifacts.versions_by_ids(fresh):
            if self.sight.covers(row.project_id):
                node = self._version(row)
                self.nodes[node.id] = node
                self.version_names[row.version_id] = node.id
        return self.version_names

    def _version(self, row: VersionRow) -> Node:
        detail = BINNED if row.binned_at and not row.purged_at else "by reference" if row.by_reference else ""
        reference = self.sight.name_from(self.place, row.project_id, row.reference)
        return Node(
            f"artifact:{reference}",
            "artifact",
            reference,
            row.name,
            detail,
            row.purged_at is not None,
            at=iso(row.created_at) or "",
            person=self.people.get(row.created_by, ""),
            extra={
                "sha256": row.digest,
                "files": row.file_count,
                "bytes": row.size_bytes,
                "address": row.address,
                "kind": row.kind,
            },
        )

    def link_edges(
        self, link_rows: Iterable[LinkRow], run_names: dict[int, str], version_names: dict[int, str]
    ) -> None:
        for link in link_rows:
            run, version = run_names.get(link.run_id), version_names.get(link.version_id)
            if run is None and version is None:
                continue
            relation: Relation = "used" if link.relation == "used" else "generated"
            if run is None or version is None:
                back = (version is None) == (relation == "used")
                self.hide(run or version or "", "run" if run is None else "version", back, relation)
                continue
            source, target = (version, run) if relation == "used" else (run, version)
            self.add_edge(
                Edge(
                    source,
                    target,
                    relation,
                    link.role,
                    link.activity,
                    link.step,
                    iso(link.recorded_at) or "",
                )
            )

    def hide(self, neighbour: str, what: Literal["run", "version"], back: bool, relation: Relation) -> None:
        """Add what stands for a thing that the actor may not see, before or after what leads to it."""
        node = hidden_node(neighbour, what, back)
        self.nodes[node.id] = node
        self.add_edge(Edge(node.id, neighbour, relation) if back else Edge(neighbour, node.id, relation))

    def go(self, level: _Level, back: bool) -> None:
        """Follow one way until nothing new comes or the limit is reached."""
        seen = _Level(set(level.runs), set(level.versions), set(level.models))
        step: Callable[[_Level], _Level] = self._back if back else self._forth
        while level:
            if len(self.nodes) >= self.limit:
                self.cut = True
                return
            reached = step(level)
            level = _Level(reached.runs - seen.runs, reached.versions - seen.versions, reached.models - seen.models)
            seen.runs |= level.runs
            seen.versions |= level.versions
            seen.models |= level.models

    def _back(self, level: _Level) -> _Level:
        made = [link for link in links.links_of_versions(sorted(level.versions)) if link.relation == "generated"]
        used = [link for link in links.links_of_runs(sorted(level.runs)) if link.relation == "used"]
        parents = _parents(level.runs)
        registered = _artifacts_of_models(level.models)
        run_names = self.run_nodes({*level.runs, *(link.run_id for link in made), *(p for p, _ in parents)})
        names = self.version_nodes({*level.versions, *(link.version_id for link in used), *(v for _, v in registered)})
        self.link_edges([*made, *used], run_names, names)
        self._family(parents, run_names)
        self._registered(registered, names, self._models(level.models))
        return self._in_sight(
            {link.run_id for link in made} | {parent for parent, _ in parents},
            {link.version_id for link in used} | {version_id for _, version_id in registered},
        )

    def _forth(self, level: _Level) -> _Level:
        users = [link for link in links.links_of_versions(sorted(level.versions)) if link.relation == "used"]
        made = [link for link in links.links_of_runs(sorted(level.runs)) if link.relation == "generated"]
        children = _children(level.runs)
        registered = _models_of_artifacts(level.versions)
        run_names = self.run_nodes({*level.runs, *(link.run_id for link in users), *(c for _, c in children)})
        names = self.version_nodes({*level.versions, *(link.version_id for link in made)})
        self.link_edges([*users, *made], run_names, names)
        self._family(children, run_names)
        model_names = self._models({model for model, _ in registered})
        self._registered(registered, names, model_names)
        return self._in_sight(
            {link.run_id for link in users} | {child for _, child in children},
            {link.version_id for link in made},
            set(model_names),
        )

    def _in_sight(self, run_ids: set[int], version_ids: set[int], models: set[ModelKey] | None = None) -> _Level:
        return _Level(run_ids & self.run_names.keys(), version_ids & self.version_names.keys(), models or set())

    def _registered(
        self, pairs: Iterable[tuple[ModelKey, int]], names: dict[int, str], model_names: dict[ModelKey, str]
    ) -> None:
        for model, version_id in pairs:
            version, name = names.get(version_id), model_names.get(model)
            if version and name:
                self.add_edge(Edge(version, name, "registered"))
            elif name:
                self.hide(name, "version", back=True, relation="registered")
            elif version:
                self.hide(version, "version", back=False, relation="registered")

    def _family(self, pairs: Iterable[tuple[int, int]], names: dict[int, str]) -> None:
        for parent, child in pairs:
            above, below = names.get(parent), names.get(child)
            if above and below:
                self.add_edge(Edge(above, below, "began"))
            elif below:
                self.hide(below, "run", back=True, relation="began")
            elif above:
                self.hide(above, "run", back=False, relation="began")

    def _models(self, wanted: set[ModelKey]) -> dict[ModelKey, str]:
        """Add models' versions as nodes; returns the names of those in sight."""
        names = {}
        for model_id in sorted({model for model, _ in wanted}):
            row = models.model_by_id(model_id)
            if not self.sight.covers(row.project_id):
                continue
            occupied = stage_records.stages_of_versions(model_id)
            for version in models.versions_of_model(model_id):
                key = (model_id, version.number)
                if key not in wanted:
                    continue
                reference = self.sight.name_from(self.place, row.project_id, f"{row.name}@{version.number}")
                name = f"model:{reference}"
                names[key] = name
                stages = tuple(occupied.get(version.number, ()))
                self.nodes.setdefault(
                    name,
                    Node(
                        name,
                        "model",
                        reference,
                        row.name,
                        "",
                        False,
                        stages,
                        at=iso(version.created_at) or "",
                        person=self.people.get(version.created_by, ""),
                        extra={"comment": version.comment, "stages": ", ".join(stages)},
                    ),
                )
        return names


def _parents(run_ids: set[int]) -> list[tuple[int, int]]:
    return run_families.parents_and_children(run_ids, of_children=True)


def _children(run_ids: set[int]) -> list[tuple[int, int]]:
    return run_families.parents_and_children(run_ids, of_children=False)


def _artifacts_of_models(wanted: set[tuple[int, int]]) -> list[tuple[tuple[int, int], int]]:
    edges = []
    for model_id in {model for model, _ in wanted}:
        edges += [
            ((model_id, row.number), row.version_id)
            for row in models.versions_of_model(model_id)
            if (model_id, row.number) in wanted
        ]
    return edges


def _models_of_artifacts(version_ids: set[int]) -> list[tuple[tuple[int, int], int]]:
    ordered, pairs = sorted(version_ids), []
    for start in range(0, len(ordered), 1000):
        part = ordered[start : start + 1000]
        pairs += [((row.model_id, row.number), row.version_id) for row in models.versions_on(part)]
    return pairs


@snapshot
def trace(actor: Actor, project: str, reference: str, limit: int = NODES_LIMIT, way: str = "both") -> Graph:
    """Return the lineage of what a reference names; `way` is back, forth or both, `limit` bounds the nodes."""
    place = enter(actor, project)
    walk = _Walk(actor, place, max(1, min(limit, NODES_LIMIT)))
    start, level = _start(actor, place, walk, reference)
    for back in (True, False):
        if way in {"both", "back" if back else "forth"}:
            walk.go(_Level(set(level.runs), set(level.versions), set(level.models)), back)
    edges = tuple(edge for edge in walk.edges.values() if edge.source in walk.nodes and edge.target in walk.nodes)
    return Graph(start, tuple(walk.nodes.values()), edges, walk.cut)


def _start(actor: Actor, place: Place, walk: _Walk, reference: str) -> tuple[str, _Level]:
    if reference.startswith("sha256:"):
        return _from_digest(actor, place, walk, reference)
    ref = parse_ref(reference)
    if isinstance(ref, RunRef | VersionRef) and ref.project:
        place = enter(actor, ref.project)
    if isinstance(ref, RunRef) and ref.path is None:
        run = run_named(place, f"{ref.experiment}/{ref.pick}" if ref.experiment else ref.pick)
        return walk.run_nodes([run.run_id])[run.run_id], _Level(runs={run.run_id})
    if not isinstance(ref, VersionRef):
        raise InvalidInput(
            f"{reference!r} has no lineage of its own; name a run, a version, a file in one, or sha256:….", field="of"
        )
    if artifacts.thing_of_name(place.project_id, ref.name) == "model":
        state = load_model(place, ref.name, lock=False)
        key = (state.model.model_id, pick_version(state, ref.which))
        return walk._models({key})[key], _Level(models={key})
    version = find_version(place, ref.name, ref.which)
    if ref.path is not None:
        return _from_file(place, walk, version, ref.path)
    return walk.version_nodes([version.version_id])[version.version_id], _Level(versions={version.version_id})


def _from_file(place: Place, walk: _Walk, version: VersionRow, path: str) -> tuple[str, _Level]:
    files = manifests.files_of_version(version.version_id, version.digest)
    entry = next((entry for entry in files if entry.path == path), None)
    if entry is None:
        raise NotFound(f"{version.reference} has no file {path!r}.", field="of")
    return _file_node(place, walk, entry.sha256, f"{version.reference}:{path}", entry.size)


def _from_digest(actor: Actor, place: Place, walk: _Walk, reference: str) -> tuple[str, _Level]:
    uses = find_uses(actor, place.project.name, reference.removeprefix("sha256:"))
    if uses.exact:
        first = uses.versions[0]
        return f"artifact:{first.reference}", _Level(versions=set(_as_first(walk, uses.versions)))
    return _file_node(place, walk, uses.digest, f"sha256:{uses.digest[:16]}", None)


def _as_first(walk: _Walk, versions: list[VersionRow]) -> list[int]:
    """Add versions of one content to a walk: all of them stand as the first."""
    first = f"artifact:{versions[0].reference}"
    walk.version_nodes([versions[0].version_id])
    walk.version_names.update({row.version_id: first for row in versions[1:]})
    return [row.version_id for row in versions]


def _file_node(place: Place, walk: _Walk, sha256: str, reference: str, size: int | None) -> tuple[str, _Level]:
    """One file: the versions that hold it are not shown, their runs are joined to the file."""
    holders = artifacts.versions_with_file(place.project_id, sha256, 5_000)
    name = f"file:{reference}"
    names = ", ".join(row.reference for row in holders[:20])
    walk.nodes[name] = Node(
        name,
        "file",
        reference,
        reference.partition("@")[0],
        f"in {len(holders)} version{'s'[: len(holders) != 1]}",
        extra={"sha256": sha256, "bytes": size, "versions": names},
    )
    walk.version_names.update({row.version_id: name for row in holders})
    return name, _Level(versions={row.version_id for row in holders})
