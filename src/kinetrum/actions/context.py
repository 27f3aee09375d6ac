"""Who acts, on which project, and whether they may."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from kinetrum.core.access.scopes import Scope, in_order, scopes_of
from kinetrum.core.base.errors import Conflict, NotAllowed, NotFound
from kinetrum.core.base.permissions import Act, Role, least_role, permits
from kinetrum.core.base.values import check_name
from kinetrum.core.lineage.graph import HIDDEN
from kinetrum.storage.people import people, projects
from kinetrum.storage.people.journal import Source
from kinetrum.storage.people.projects import ExperimentRow, ProjectRow, ProjectSummary


@dataclass(frozen=True)
class Actor:
    """Whoever is behind a request, person or machine, and by what they came.

    `token` is the name of the token, empty of a session; `scopes` and `projects` are what it is limited to, None where
    it is not, and `token_ends_at` is its end. `session_id` is the session's, None of a token.
    """

    person_id: int
    name: str
    full_name: str
    is_admin: bool
    origin: str = ""
    token: str = ""
    scopes: frozenset[Scope] | None = None
    projects: frozenset[int] | None = None
    session_id: int | None = None
    token_ends_at: datetime | None = None

    @property
    def source(self) -> Source:
        """Where the acts come from, for the journal."""
        return Source(self.origin, self.token)

    def has_scope(self, scope: Scope) -> bool:
        """Tell whether a scope is among what the actor came with; a session has every one."""
        return self.scopes is None or scope in self.scopes

    def require_scope(self, scope: Scope) -> None:
        """Raise NotAllowed unless the token that the actor came with has a scope."""
        reason = self.why_not_scope(scope)
        if reason:
            raise NotAllowed(reason)

    def why_not_scope(self, scope: Scope) -> str | None:
        """Say that the token that the actor came with lacks a scope, None where it does not."""
        if self.has_scope(scope):
            return None
        return (
            f"The token {self.token!r} is not for that: it takes the scope {scope.value!r}, and the token has "
            f"{', '.join(in_order(self.scopes or ()))}."
        )

    def require_session(self, what: str) -> None:
        """Raise NotAllowed for whoever came by a token: nobody changes an account with what may have been found."""
        if self.session_id is None:
            raise NotAllowed(f"{what} takes somebody who signed in with name and password; a token is not enough.")


@dataclass(frozen=True)
class Place:
    """A project that the actor may see, with the actor's role in it."""

    project: ProjectRow
    role: Role

    @property
    def project_id(self) -> int:
        """Id of the project."""
        return self.project.project_id


# What is done to a project that is archived: reading it, and taking it out of the archive.
_ON_ARCHIVED = frozenset({Act.SEE, Act.READ_JOURNAL, Act.ADMINISTER})


def enter(actor: Actor, project_name: str, act: Act = Act.SEE) -> Place:
    """Return the project if the actor may do `act` there.

    Raises NotFound where the actor may not even see it, NotAllowed where the role does not suffice.
    """
    project = projects.project_named(check_name(project_name, "project"))
    role = role_of(actor, project.project_id) if project else None
    if project is None or role is None:
        raise NotFound(
            f"There is no project {project_name!r} that {actor.full_name} may see; an administrator makes projects "
            "and gives roles.",
            field="project",
        )
    place = Place(project, role)
    require(actor, place, act)
    return place


def role_of(actor: Actor, project_id: int) -> Role | None:
    """Return the actor's role, None where they may not know of the project; administrators are maintainers of all."""
    if actor.projects is not None and project_id not in actor.projects:
        return None
    return Role.MAINTAINER if actor.is_admin else people.role_in(project_id, actor.person_id)


@dataclass(frozen=True)
class Sight:
    """Which projects somebody may see; `project_ids` is None for all of them."""

    project_ids: frozenset[int] | None

    def covers(self, project_id: int) -> bool:
        """Tell whether a project may be seen."""
        return self.project_ids is None or project_id in self.project_ids

    def names_from(self, place: Place, things: Iterable[tuple[int, str]]) -> list[str]:
        """Name things as seen from a project, those of the project first; what may not be seen stands once."""
        seen = sorted(things, key=lambda thing: thing[0] != place.project_id)
        return list(dict.fromkeys(self.name_from(place, *thing) for thing in seen))

    def name_from(self, place: Place, project_id: int, reference: str) -> str:
        """Name a thing as seen from a project: bare there, with its project elsewhere, HIDDEN if unseen."""
        if project_id == place.project_id:
            return reference
        if not self.covers(project_id):
            return HIDDEN
        return f"{projects.project_by_id(project_id).name}/{reference}"


def sight_of(actor: Actor) -> Sight:
    """Return which projects the actor may see; none by a token that is not for reading."""
    if not actor.has_scope(Scope.READ):
        return Sight(frozenset())
    seen = None if actor.is_admin else people.project_ids_of(actor.person_id)
    if actor.projects is None:
        return Sight(seen)
    return Sight(actor.projects if seen is None else seen & actor.projects)


def require(actor: Actor, place: Place, act: Act) -> None:
    """Raise NotAllowed unless role and token permit the act, Conflict where the project is archived."""
    reason = _why_no_right(actor, place, act)
    if reason:
        raise NotAllowed(reason)
    reason = _why_archived(place, act)
    if reason:
        raise Conflict(reason)


def may(actor: Actor, place: Place, act: Act) -> bool:
    """Tell whether the actor may do something in a project as it is now."""
    return why_not(actor, place, act) is None


def why_not(actor: Actor, place: Place, act: Act) -> str | None:
    """Say why the actor may not do something in a project as it is now: by role, token or archive; None where so."""
    return _why_no_right(actor, place, act) or _why_archived(place, act)


def _why_no_right(actor: Actor, place: Place, act: Act) -> str | None:
    if permits(place.role, act):
        return next((reason for scope in scopes_of(act) if (reason := actor.why_not_scope(scope))), None)
    return (
        f"{actor.full_name} is {_article(place.role)} in {place.project.name}; to {act} takes "
        f"{_article(least_role(act))}."
    )


def _why_archived(place: Place, act: Act) -> str | None:
    if place.project.archived_at is None or act in _ON_ARCHIVED:
        return None
    return (
        f"{place.project.name} is archived since {place.project.archived_at:%Y-%m-%d}: it is read, and nothing is "
        "changed in it. A maintainer can take it out of the archive."
    )


def _article(role: Role) -> str:
    return f"an {role}" if role is Role.APPROVER else f"a {role}"


def experiment_in(place: Place, name: str) -> ExperimentRow:
    """Return the experiment of that name or raise NotFound with the names there are."""
    experiment_row = projects.experiment_named(place.project_id, check_name(name, "experiment"))
    if experiment_row is None:
        known = ", ".join(row.name for row in projects.experiment_summaries(place.project_id)[:8])
        raise NotFound(
            f"{place.project.name} has no experiment {name!r}; it has {known or 'none yet'}.",
            field="experiment",
        )
    return experiment_row


def visible_projects(actor: Actor) -> list[ProjectSummary]:
    """Return the projects that the actor may see, with how much is in them."""
    return projects.project_summaries(sight_of(actor).project_ids)
