"""Who acts, on which project, and whether they may."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from kinetrum.core.base.errors import NotAllowed, NotFound
from kinetrum.core.base.permissions import Act, Role, least_role, permits
from kinetrum.core.base.values import check_name
from kinetrum.core.lineage.graph import HIDDEN
from kinetrum.storage.people import people, projects
from kinetrum.storage.people.projects import ExperimentRow, ProjectRow


@dataclass(frozen=True)
class Actor:
    """The signed-in person behind a request, and where it came from."""

    person_id: int
    name: str
    full_name: str
    is_admin: bool
    origin: str = ""


@dataclass(frozen=True)
class Place:
    """A project that the actor may see, with the actor's role in it."""

    project: ProjectRow
    role: Role

    @property
    def project_id(self) -> int:
        """Id of the project."""
        return self.project.project_id


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
    """Return the actor's role; an administrator is maintainer of everything."""
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
    """Return which projects the actor may see."""
    return Sight(None if actor.is_admin else people.project_ids_of(actor.person_id))


def require(actor: Actor, place: Place, act: Act) -> None:
    """Raise NotAllowed unless the actor's role permits the act."""
    reason = why_not(actor, place, act)
    if reason:
        raise NotAllowed(reason)


def why_not(actor: Actor, place: Place, act: Act) -> str | None:
    """Say why the actor's role does not permit an act, None where it does."""
    if permits(place.role, act):
        return None
    return (
        f"{actor.full_name} is {_article(place.role)} in {place.project.name}; to {act} takes "
        f"{_article(least_role(act))}."
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
