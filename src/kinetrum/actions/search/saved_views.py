"""Views: saving an arrangement for oneself or the project, and showing one to people without an account."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from kinetrum.actions.context import Actor, Place, enter, experiment_in, may, role_of
from kinetrum.actions.recording.intake import bring_up_to_date
from kinetrum.actions.runs.readers import Curve, CurveWindow, read_curves
from kinetrum.actions.search.cells import cell_of, heading
from kinetrum.actions.search.run_table import RunColumn, RunPage, TableQuery, list_runs, table_of
from kinetrum.core.access.scopes import Scope
from kinetrum.core.base.errors import Conflict, InvalidInput, NotAllowed, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.base.permissions import Act
from kinetrum.core.base.values import Value
from kinetrum.core.query.settled import Key, Source
from kinetrum.core.query.writing import resolved_names, resolved_query
from kinetrum.storage.db.database import snapshot, transaction
from kinetrum.storage.people import journal, people, projects
from kinetrum.storage.search import views
from kinetrum.storage.search.views import LinkRow, ViewRow

VIEWS_LIMIT, DAYS_LIMIT, ORIGINS_LIMIT, ARRANGEMENT_LIMIT, COLUMNS_OF_A_LINK = 200, 366, 20, 8_000, 30
_ORIGIN = re.compile(r"https?://[a-z0-9]([a-z0-9.-]*[a-z0-9])?(:\d{1,5})?\Z")


@dataclass(frozen=True)
class SharedView:
    """What a link shows: columns and cells of one page, and nothing else of the runs."""

    link: LinkRow
    page: RunPage
    columns: list[tuple[str, Source]]
    cells: list[list[tuple[bool, Value]]]


@snapshot
def list_views(actor: Actor, project: str, experiment: str | None) -> list[ViewRow]:
    """Return one's own views and those that the project shares."""
    place = enter(actor, project)
    row = experiment_in(place, experiment) if experiment else None
    return views.views_of(place.project_id, actor.person_id, row.experiment_id if row else None)


# What the charts of the lens draw: x and y, colour and size, what they are split by, axes and which are logarithmic.
_LENS = ("lx", "ly", "lc", "ls", "by", "split", "axes", "logs")


def _settled(actor: Actor, place: Place, experiment: str | None, arrangement: Mapping[str, str]) -> dict[str, str]:
    """Return an arrangement whose names say what they are, so that later names change nothing of it.

    An arrangement is the console's address: `q` the query; `sort`, `cols`, `group`, `pin`, `pareto` and what the lens
    draws are names; `wide` names with widths; the rest is kept as it is.
    """
    if sum(len(name) + len(text) for name, text in arrangement.items()) > ARRANGEMENT_LIMIT:
        raise InvalidInput(f"An arrangement has at most {ARRANGEMENT_LIMIT:,} characters.", field="arrangement")
    arrangement_now = dict(arrangement)
    table = table_of(
        actor, place.project.name, experiment, arrangement_now.get("q", ""), arrangement_now.get("sort", "")
    )
    catalogue = table.search.catalogue
    if arrangement_now.get("q"):
        arrangement_now["q"] = resolved_query(arrangement_now["q"], catalogue)
    for name in ("sort", "cols", "group", "pin", "pareto", *_LENS):
        if arrangement_now.get(name) and (name, arrangement_now[name]) != ("logs", "none"):
            arrangement_now[name] = ",".join(resolved_names(arrangement_now[name], catalogue))
    if arrangement_now.get("wide"):
        widths = [part.rpartition("~") for part in resolved_parts(arrangement_now["wide"])]
        arrangement_now["wide"] = ",".join(
            f"{resolved}~{width}" for name, _, width in widths for resolved in resolved_names(name, catalogue)
        )
    return arrangement_now


@dataclass(frozen=True)
class NewView:
    """A view to save; `expect` is the version that was seen, none for a new view."""

    experiment: str | None
    name: str
    shared: bool
    arrangement: Mapping[str, str]
    expect: int | None


@transaction
def save_view(
    actor: Actor,
    project: str,
    uid: str,
    new: NewView,
) -> ViewRow:
    """Save a view under an id that the client made, or change the one that is there.

    `expect` is the version that the person saw, None for a new one. Raises Conflict where another saved it since,
    NotAllowed for somebody else's.
    """
    place = enter(actor, project, Act.DESCRIBE if new.shared else Act.SEE)
    actor.require_scope(Scope.RECORD)
    name = new.name.strip()
    if not 1 <= len(name) <= 100 or not name.isprintable():
        raise InvalidInput("A view's name has 1 to 100 printable characters.", field="name")
    row = experiment_in(place, new.experiment) if new.experiment else None
    settled = _settled(actor, place, new.experiment, new.arrangement)
    raw = id_bytes(uid, "view")
    known = views.view_by_uid(raw)
    if known is None:
        if views.count_views(place.project_id, actor.person_id) >= VIEWS_LIMIT:
            raise InvalidInput(f"{actor.full_name} has {VIEWS_LIMIT} views here; remove one first.", field="name")
    else:
        _require_own(actor, place, known)
        if new.expect != known.version:
            raise Conflict(
                f"{known.author} saved the view {known.name!r} since you opened it; look at it and save again."
            )
    version = known.version + 1 if known else 1
    views.save_view(
        raw,
        place.project_id,
        views.ViewChange(row.experiment_id if row else None, name, new.shared, actor.person_id, settled, version),
    )
    if new.shared or (known and known.shared):
        journal.append(
            place.project_id,
            actor.person_id,
            "saved a view",
            f"view:{name}",
            journal.Change(after=settled),
            source=actor.source,
        )
    saved = views.view_by_uid(raw)
    assert saved is not None
    return saved


def _require_own(actor: Actor, place: Place, view: ViewRow) -> None:
    if view.project_id != place.project_id or (not view.shared and view.author_id != actor.person_id):
        raise NotFound("There is no such view.", field="view")
    if view.author_id != actor.person_id and not may(actor, place, Act.ADMINISTER):
        raise NotAllowed(
            f"The view {view.name!r} is {view.author}'s; its author or a maintainer changes it. Save it "
            "under another name."
        )


@transaction
def remove_view(actor: Actor, project: str, uid: str) -> None:
    """Remove a view: one's own, or as a maintainer a shared one."""
    place = enter(actor, project)
    actor.require_scope(Scope.RECORD)
    view = views.view_by_uid(id_bytes(uid, "view"))
    if view is None:
        raise NotFound("There is no such view.", field="view")
    _require_own(actor, place, view)
    views.remove_view(view.view_id)
    if view.shared:
        journal.append(
            place.project_id,
            actor.person_id,
            "removed a view",
            f"view:{view.name}",
            journal.Change(view.arrangement),
            source=actor.source,
        )


@transaction
def make_link(
    actor: Actor, project: str, experiment: str, arrangement: Mapping[str, str], days: int
) -> tuple[LinkRow, str]:
    """Make a link that shows one arrangement to whoever has it, read-only, for some days; returns it and its secret."""
    place = enter(actor, project, Act.DESCRIBE)
    if not 1 <= days <= DAYS_LIMIT:
        raise InvalidInput(f"A link lasts 1 to {DAYS_LIMIT} days, not {days}.", field="days")
    row = experiment_in(place, experiment)
    settled = _settled(actor, place, experiment, arrangement)
    link_id, secret = views.add_link(place.project_id, row.experiment_id, settled, actor.person_id, days)
    journal.append(
        place.project_id,
        actor.person_id,
        "made a link",
        f"experiment:{experiment}",
        journal.Change(after={**settled, "days": days, "link": link_id}),
        source=actor.source,
    )
    link = views.link_by_id(link_id)
    assert link is not None
    return link, secret


@snapshot
def list_links(actor: Actor, project: str) -> list[LinkRow]:
    """Return the project's links that can still be opened; their secrets are known to nobody here."""
    return views.links_of(enter(actor, project, Act.DESCRIBE).project_id)


@transaction
def revoke_link(actor: Actor, project: str, link_id: int) -> None:
    """Let a link open nothing any more: one's own, or as a maintainer anybody's."""
    place = enter(actor, project, Act.DESCRIBE)
    link = views.link_by_id(link_id)
    if link is None or link.project_id != place.project_id:
        raise NotFound(f"{project} has no link {link_id}.", field="link")
    if link.author_id != actor.person_id and not may(actor, place, Act.ADMINISTER):
        raise NotAllowed(f"The link is {link.author}'s; its maker or a maintainer revokes it.")
    views.revoke_link(link_id)
    journal.append(
        place.project_id,
        actor.person_id,
        "revoked a link",
        f"experiment:{link.experiment}",
        journal.Change({"link": link_id}),
        source=actor.source,
    )


def _opened(secret: str) -> tuple[LinkRow, Actor]:
    """Return a link and its maker, in whose eyes it is read: who may no longer see the project shows nothing of it."""
    link = views.link_of_secret(secret)
    if link is not None:
        maker = people.person_by_id(link.author_id)
        if maker.deactivated_at is None:
            actor = Actor(maker.person_id, maker.name, maker.full_name, maker.is_admin, "link")
            if role_of(actor, link.project_id) is not None:
                return link, actor
    raise NotFound("This link opens nothing: it has expired, was revoked, or was never made.", field="link")


def read_link(secret: str, offset: int = 0) -> SharedView:
    """Return what a link shows: of its runs only the columns of its arrangement."""
    # Only whoever brings a link that opens something has points brought in.
    bring_up_to_date(_project_of(secret))
    return _shown_by(secret, offset)


@snapshot
def _project_of(secret: str) -> str:
    return _opened(secret)[0].project


@snapshot
def _shown_by(secret: str, offset: int = 0) -> SharedView:
    link, actor = _opened(secret)
    arrangement = link.arrangement
    query = TableQuery(
        arrangement.get("q", ""), arrangement.get("sort", ""), None, offset, pareto=arrangement.get("pareto", "")
    )
    named = resolved_parts(arrangement.get("cols", ""))
    page = list_runs(actor, link.project, link.experiment, _with_columns(query, named))
    columns = page.chosen or [(heading(source), source) for source in _leading(page)]
    cells = [[cell_of(source, view) for _, source in columns] for view in page.rows]
    return SharedView(link, page, columns, cells)


def resolved_parts(text: str) -> list[str]:
    """Return the names that commas part; commas within quotes do not part."""
    return [part.strip() for part in re.findall(r"""(?:[^,"']|"[^"]*"|'[^']*')+""", text) if part.strip()]


def _with_columns(query: TableQuery, columns: list[str]) -> TableQuery:
    return replace(query, columns=tuple(columns))


def _leading(page: RunPage) -> list[Source]:
    """Without any named: settings that differ, then values, those with goals first."""
    goals = [goal.key for goal in page.goals]
    shown: list[RunColumn] = [column for column in page.columns if column.scope == "param" and column.differs]
    values = [column for column in page.columns if column.scope == "value"]
    values.sort(key=lambda column: goals.index(column.name) if column.name in goals else len(goals))
    chosen = [*values[: max(1, len(goals))], *shown, *values[max(1, len(goals)) :]][:COLUMNS_OF_A_LINK]
    return [Key(column.scope, column.name) for column in chosen]


@snapshot
def read_link_curves(secret: str, width: int) -> tuple[str, list[Curve]]:
    """Return the curves that a link's lens shows: of its metric, of the runs on its first page."""
    link, actor = _opened(secret)
    shown = _shown_by(secret)
    metric = link.arrangement.get("y") or next((goal.key for goal in shown.page.goals), "")
    having = [view.run.reference for view in shown.page.rows if metric in view.doc.stats][:50]
    return metric, read_curves(
        actor, link.project, having, metric, CurveWindow(width, None, None, None)
    ) if having else []


@snapshot
def read_embedding(actor: Actor, project: str) -> list[str]:
    """Return the origins whose pages may show this project's views."""
    return projects.embedding_origins(enter(actor, project).project_id)


@transaction
def set_embedding(actor: Actor, project: str, origins: list[str]) -> list[str]:
    """Set the origins whose pages may show this project's views in a frame."""
    place = enter(actor, project, Act.ADMINISTER)
    if len(origins) > ORIGINS_LIMIT:
        raise InvalidInput(f"{len(origins)} origins; at most {ORIGINS_LIMIT} are kept.", field="origins")
    for origin in origins:
        if not _ORIGIN.match(origin):
            raise InvalidInput(
                f"{origin!r} is not an origin; write https://wiki.example or http://127.0.0.1:8000, without a path.",
                field="origins",
            )
    before = projects.embedding_origins(place.project_id)
    projects.set_embedding_origins(place.project_id, origins)
    journal.append(
        place.project_id,
        actor.person_id,
        "set who may embed views",
        f"project:{project}",
        journal.Change(before, origins),
        source=actor.source,
    )
    return origins


@snapshot
def origins_of_link(secret: str) -> list[str]:
    """Return which origins may frame what a link shows; none for a link that is not there."""
    link = views.link_of_secret(secret)
    return projects.embedding_origins(link.project_id) if link else []


@snapshot
def origins_of_project(actor: Actor, project: str) -> list[str]:
    """Return which origins may frame a view of a project; raises NotFound for one that the actor may not see."""
    return projects.embedding_origins(enter(actor, project).project_id)
