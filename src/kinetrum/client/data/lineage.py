"""The lineage from Python: what something came from and what came of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session, open_session
from kinetrum.core.base.refs import by_numbers

if TYPE_CHECKING:
    from kinetrum.client.transport import answers

_ALL = 20_000


class Lineage:
    """A graph around `start`, as read: nodes by id, and edges from what was there first to what came of it."""

    def __init__(self, session: Session, of: str, data: answers.Lineage) -> None:
        self._session, self._of, self.data = session, of, data
        self.nodes: dict[str, answers.LineageNode] = {node["id"]: node for node in data["nodes"]}
        self.edges: list[answers.LineageEdge] = data["edges"]

    @property
    def start(self) -> answers.LineageNode:
        """The node that was asked for."""
        return self.nodes[self.data["start"]]

    @property
    def sentence(self) -> str:
        """What it came from and what came of it, in one sentence."""
        return str(self.data["sentence"])

    @property
    def before(self) -> list[str]:
        """References of what it came from, the furthest first."""
        return [node["reference"] for node in self._ordered() if node["steps"] < 0]

    @property
    def after(self) -> list[str]:
        """References of what came of it, the nearest first."""
        return [node["reference"] for node in self._ordered() if node["steps"] > 0]

    def _ordered(self) -> list[answers.LineageNode]:
        return sorted(self.nodes.values(), key=lambda node: (node["steps"], by_numbers(node["reference"])))

    def to_prov(self, to: str | Path | None = None) -> dict[str, object]:
        """Return the lineage as W3C PROV-JSON; with `to` it is written to a file as well."""
        doc: dict[str, object] = self._session.service.get(
            path_of("projects", self._session.project, "lineage", "prov"), of=self._of
        )
        if to is not None:
            Path(to).write_text(json.dumps(doc, indent=2, ensure_ascii=False), encoding="utf-8")
        return doc

    def __repr__(self) -> str:
        return f"<Lineage {self.sentence}>"


def lineage(
    of: str, *, way: str = "both", fold_to: int = _ALL, project: str | None = None, url: str | None = None
) -> Lineage:
    """Return the lineage of a run, a version of an artifact or a model, a file in one, or a digest (`sha256:…`).

    `way` is back, forth or both; `fold_to` folds nodes that are alike where there would be more than so many.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    session = open_session(project, url)
    data = session.service.get(
        path_of("projects", session.project, "lineage"), of=of, way=way, fold_to=fold_to, limit=_ALL
    )
    return Lineage(session, of, data)
