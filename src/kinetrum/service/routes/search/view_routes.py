"""Routes for saved views, links for people without an account, embedding, and finding anything by a fragment."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query

from kinetrum.actions.context import Actor
from kinetrum.actions.runs.readers import Curve, finite
from kinetrum.actions.search import palette, saved_views
from kinetrum.core.base.ids import id_text
from kinetrum.core.base.values import to_json
from kinetrum.service.http.access import SignedIn
from kinetrum.service.http.routers import make_router
from kinetrum.service.presenters import shapes
from kinetrum.storage.search.views import LinkRow, ViewRow
from kinetrum.wire import runs as wire_runs
from kinetrum.wire import search as wire

router = make_router(tags=["views"])
_PROJECT = "/projects/{project}"
Secret = Annotated[str, Path(min_length=10, max_length=100)]
Offset = Annotated[int, Query(ge=0, le=10_000_000)]
Fragment = Annotated[str, Query(max_length=300, description="A reference or a part of a name.")]


def _view(row: ViewRow, actor: Actor) -> wire.SavedView:
    return wire.SavedView(
        id=id_text(row.uid),
        name=row.name,
        experiment=row.experiment,
        shared=row.shared,
        mine=row.author_id == actor.person_id,
        author=row.author,
        arrangement=row.arrangement,
        version=row.version,
        saved_at=row.saved_at,
    )


def _link(row: LinkRow, secret: str | None = None) -> wire.ViewLink:
    return wire.ViewLink(
        number=row.link_id,
        experiment=row.experiment,
        arrangement=row.arrangement,
        author=row.author,
        made_at=row.made_at,
        expires_at=row.expires_at,
        secret=secret,
    )


@router.get(_PROJECT + "/views")
def list_views(actor: SignedIn, project: str, experiment: str | None = None) -> list[wire.SavedView]:
    """List one's own views and those that the project shares."""
    return [_view(row, actor) for row in saved_views.list_views(actor, project, experiment)]


@router.put(_PROJECT + "/views/{view}")
def save_view(actor: SignedIn, project: str, view: str, body: wire.NewSavedView) -> wire.SavedView:
    """Save a view under an id that the client made, or change it; names in it are settled for good."""
    saved = saved_views.save_view(
        actor,
        project,
        view,
        saved_views.NewView(body.experiment, body.name, body.shared, body.arrangement, body.expect),
    )
    return _view(saved, actor)


@router.delete(_PROJECT + "/views/{view}", status_code=204)
def remove_view(actor: SignedIn, project: str, view: str) -> None:
    """Remove a view: one's own, or as a maintainer a shared one."""
    saved_views.remove_view(actor, project, view)


@router.get(_PROJECT + "/links")
def list_links(actor: SignedIn, project: str) -> list[wire.ViewLink]:
    """List the links of a project that can still be opened, without their secrets."""
    return [_link(row) for row in saved_views.list_links(actor, project)]


@router.post(_PROJECT + "/links", status_code=201)
def make_link(actor: SignedIn, project: str, body: wire.NewLink) -> wire.ViewLink:
    """Make a read-only link for people without an account; its secret is told in this answer alone."""
    return _link(*saved_views.make_link(actor, project, body.experiment, body.arrangement, body.days))


@router.delete(_PROJECT + "/links/{link}", status_code=204)
def revoke_link(actor: SignedIn, project: str, link: Annotated[int, Path(ge=0, lt=2**31)]) -> None:
    """Let a link open nothing any more."""
    saved_views.revoke_link(actor, project, link)


@router.get(_PROJECT + "/embedding")
def read_embedding(actor: SignedIn, project: str) -> wire.Embedding:
    """Read which origins may show this project's views in a frame."""
    return wire.Embedding(origins=saved_views.read_embedding(actor, project))


@router.put(_PROJECT + "/embedding")
def set_embedding(actor: SignedIn, project: str, body: wire.NewEmbedding) -> wire.Embedding:
    """Set which origins may show this project's views in a frame."""
    return wire.Embedding(origins=saved_views.set_embedding(actor, project, body.origins))


@router.get("/links/{secret}")
def read_link(secret: Secret, offset: Offset = 0) -> wire.LinkPage:
    """Read what a link shows; no account is asked for."""
    link = saved_views.read_link(secret, offset)
    return wire.LinkPage(
        project=link.link.project,
        experiment=link.link.experiment,
        author=link.link.author,
        expires_at=link.link.expires_at,
        arrangement=link.link.arrangement,
        columns=[shapes.chosen(text, source) for text, source in link.columns],
        goals=link.page.goals,
        rows=[
            wire.LinkRow(
                reference=view.run.reference,
                number=view.run.number,
                name=view.run.name,
                status=view.run.status,
                cells=[to_json(value) for _, value in cells],
                present=[present for present, _ in cells],
            )
            for view, cells in zip(link.page.rows, link.cells, strict=True)
        ],
        count=link.page.count,
        count_is_capped=link.page.count_is_capped,
        more=link.page.next_cursor is not None,
    )


@router.get("/links/{secret}/curves")
def read_link_curves(secret: Secret, width: int = 600) -> wire.LinkCurves:
    """Read the curves that a link shows."""
    metric, curves = saved_views.read_link_curves(secret, width)
    return wire.LinkCurves(metric=metric, curves=[_curve(curve) for curve in curves])


def _curve(curve: Curve) -> wire_runs.Curve:
    return wire_runs.Curve(
        run=curve.run.reference,
        id=id_text(curve.run.uid),
        status=curve.run.status,
        steps=curve.points.steps.tolist(),
        times=curve.points.times.tolist(),
        values=shapes.curve_values(curve.points),
        against=None if curve.against is None else [finite(value) for value in curve.against],
    )


@router.get("/find")
def find(
    actor: SignedIn, text: Fragment, project: Annotated[str | None, Query(max_length=100)] = None
) -> list[palette.PaletteMatch]:
    """Find runs, experiments, artifacts, models and views by a reference or a fragment, in the named project first."""
    return palette.find(actor, text, project)
