"""Routes for the lineage: the graph for people, and as W3C PROV-JSON."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Query, Request
from fastapi.responses import JSONResponse

from kinetrum.actions.data import lineage
from kinetrum.core.base.errors import KinetrumError
from kinetrum.core.lineage.graph import dangling, distances, fold, lineage_sentence, to_prov
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.public_address import public_address
from kinetrum.service.http.routers import make_router
from kinetrum.wire import lineage as wire

router = make_router(prefix="/projects/{project}/lineage", tags=["lineage"])
Of = Annotated[str, Query(max_length=1_300, description="A run, a version, a file in one, or sha256:….")]
Way = Annotated[Literal["both", "back", "forth"], Query(description="What it came from, what came of it, or both.")]


@router.get("")
def read_lineage(
    actor: SignedIn,
    project: str,
    of: Of,
    way: Way = "both",
    fold_to: Annotated[int, Query(ge=5, le=20_000, description="Fold what is alike beyond so many nodes.")] = 60,
    limit: Annotated[int, Query(ge=1, le=lineage.NODES_LIMIT, description="Follow no further then.")] = 5_000,
) -> wire.Lineage:
    """Read what something came from and what came of it, as a graph."""
    graph = lineage.trace(actor, project, of, limit, way)
    shown = fold(graph, fold_to)
    steps = distances(graph) | distances(shown)
    return wire.Lineage(
        start=shown.start,
        sentence=lineage_sentence(graph, way),
        nodes=[
            wire.LineageNode(
                id=node.id,
                kind=node.kind,
                reference=node.reference,
                family=node.family,
                detail=node.detail,
                gone=node.gone,
                stages=list(node.stages),
                members=list(node.members),
                at=node.at,
                person=node.person,
                steps=steps.get(node.id, 0),
            )
            for node in shown.nodes
        ],
        edges=[wire.LineageEdge.model_validate(edge) for edge in shown.edges],
        count=len(graph.nodes),
        cut=graph.cut,
    )


@router.get("/prov", response_class=JSONResponse, responses={200: {"content": {"application/json": {}}}})
def export_prov(actor: SignedIn, project: str, of: Of, request: Request, way: Way = "both") -> JSONResponse:
    """Read the same as W3C PROV-JSON, with nothing folded and no reference that leads nowhere."""
    graph = lineage.trace(actor, project, of, lineage.NODES_LIMIT, way)
    doc: dict[str, Any] = to_prov(graph, f"{public_address(request)}/projects/{project}/")
    loose = dangling(doc)
    if loose:
        raise KinetrumError(f"The lineage names {loose[0]}, which is not in it.")
    return JSONResponse(doc, headers={"Content-Disposition": 'attachment; filename="lineage.prov.json"'})
