"""Ladders: promote, demote, roll back. Pure: old stacks in, new stacks or an error out.

Each stage keeps a stack of the versions that were placed on it; the last is its occupant.
Every act names the occupant that its author saw; where another stands there, it is refused.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kinetrum.core.errors import Conflict, InvalidInput, NotFound, UnexpectedOccupant
from kinetrum.core.permissions import Role
from kinetrum.core.registry.review import Review, Standing
from kinetrum.core.values import check_name

LADDER_LIMIT = 12


@dataclass(frozen=True)
class Stage:
    """One rung: its name, whether it asks an approved version, and who may place.

    `placers`: the people, by name, who alone may place here; none named, whoever has the least role.
    """

    name: str
    asks_approved: bool
    least_role: Role
    placers: tuple[str, ...] = ()


DEFAULT_LADDER = (
    Stage("development", False, Role.CONTRIBUTOR),
    Stage("staging", True, Role.CONTRIBUTOR),
    Stage("production", True, Role.APPROVER),
)


@dataclass(frozen=True)
class Stay:
    """A version on a stage, who placed it and when (ISO 8601), for messages."""

    number: int
    placed_by: str = ""
    placed_at: str = ""


Stack = tuple[Stay, ...]


@dataclass(frozen=True)
class RolledBack:
    """Outcome of a roll back: the stack now, and what was popped, latest first."""

    stack: Stack
    popped: tuple[Stay, ...]


def make_ladder(stages: Sequence[Stage]) -> tuple[Stage, ...]:
    """Check a ladder: 1 to 12 stages with distinct allowed names."""
    if not 1 <= len(stages) <= LADDER_LIMIT:
        raise InvalidInput(f"A ladder has 1 to {LADDER_LIMIT} stages, not {len(stages)}.", field="stages")
    names = [check_name(stage.name, "stage") for stage in stages]
    if len(set(names)) != len(names):
        raise InvalidInput("A ladder names each stage once.", field="stages")
    return tuple(stages)


def change_ladder(
    before: Sequence[Stage], after: Sequence[Stage], stacks: Mapping[str, Stack], model: str
) -> tuple[Stage, ...]:
    """Return a ladder in another's place; raises Conflict where an occupied stage would be gone."""
    checked = make_ladder(after)
    names = {stage.name for stage in checked}
    for stage in before:
        stack = stacks.get(stage.name, ())
        if stack and stage.name not in names:
            raise Conflict(
                f"The stage {stage.name} of {model} holds version {stack[-1].number}; demote it before the stage is "
                "removed.",
                field="stages",
            )
    return checked


def find_stage(ladder: Sequence[Stage], name: str, model: str) -> Stage:
    """Return the stage of that name; raises NotFound that lists the stages there are."""
    for stage in ladder:
        if stage.name == name:
            return stage
    known = ", ".join(stage.name for stage in ladder)
    raise NotFound(f"{model} has no stage {name!r}; its ladder is {known}.", field="stage")


def check_expected(stack: Stack, expect: int | None, model: str, stage: str) -> None:
    """Refuse unless the occupant is the one that the author saw (None: an empty stage)."""
    occupant = stack[-1] if stack else None
    if (occupant.number if occupant else None) == expect:
        return
    seen = f"version {expect}" if expect is not None else "no version"
    if occupant is None:
        holds = "is empty now"
    else:
        placed = f" (placed by {occupant.placed_by} at {_minute(occupant.placed_at)})" if occupant.placed_by else ""
        holds = f"now holds version {occupant.number}{placed}"
    raise UnexpectedOccupant(
        f"The stage {stage} of {model} {holds}, not {seen} as you expected; look at it and try again.",
        field="expect",
    )


def _minute(moment: str) -> str:
    """Write an ISO 8601 moment in UTC to the minute, for messages."""
    return f"{moment[:16].replace('T', ' ')} UTC" if moment.endswith("Z") else moment


def obstacle(stage: Stage, standing: Standing) -> str | None:
    """Say why this version cannot stand on this stage; None if it can."""
    if standing.retired:
        return f"version {standing.number} is retired"
    if standing.damaged:
        return f"the stored files of version {standing.number} are damaged"
    if stage.asks_approved and standing.review is not Review.APPROVED:
        return f"version {standing.number} is {standing.review}, and {stage.name} asks an approved version"
    return None


def promote(stack: Stack, stage: Stage, stay: Stay, standing: Standing, expect: int | None, model: str) -> Stack:
    """Place a version on a stage on top of its stack; it keeps the stages it had."""
    check_expected(stack, expect, model, stage.name)
    if stack and stack[-1].number == stay.number:
        raise Conflict(f"Version {stay.number} of {model} stands on {stage.name} already.", field="version")
    reason = obstacle(stage, standing)
    if reason:
        raise Conflict(f"{model}@{stay.number} was not promoted: {reason}.", field="version")
    return (*stack, stay)


def demote(stack: Stack, stage: Stage, expect: int | None, model: str) -> Stack:
    """Empty a stage and clear its stack."""
    check_expected(stack, expect, model, stage.name)
    if not stack:
        raise Conflict(f"The stage {stage.name} of {model} is empty already.", field="stage")
    return ()


def roll_back(
    stack: Stack, stage: Stage, standings: Mapping[int, Standing], expect: int | None, model: str
) -> RolledBack:
    """Pop the occupant, and what below it cannot stand any more, until one can.

    Raises Conflict, changing nothing, where none is left.
    """
    check_expected(stack, expect, model, stage.name)
    if not stack:
        raise Conflict(f"The stage {stage.name} of {model} is empty; there is nothing to roll back.", field="stage")
    rest = stack[:-1]
    while rest and obstacle(stage, standings[rest[-1].number]):
        rest = rest[:-1]
    if not rest:
        raise Conflict(
            f"No earlier version of {model} can stand on {stage.name}; promote one, or demote to empty the stage.",
            field="stage",
        )
    return RolledBack(rest, tuple(reversed(stack[len(rest) :])))


def lead_of(
    chosen: int | None,
    ladder: Sequence[Stage],
    stacks: Mapping[str, Stack],
    standings: Mapping[int, Standing],
    model: str,
) -> int:
    """Return the lead version: the chosen one, else the occupant of the highest occupied stage.

    It is always approved, not retired and intact; raises NotFound where there is none.
    """
    if chosen is not None:
        _check_lead(standings[chosen], model)
        return chosen
    for stage in reversed(ladder):
        stack = stacks.get(stage.name, ())
        if stack:
            _check_lead(standings[stack[-1].number], model)
            return stack[-1].number
    raise NotFound(f"{model} has no lead version: no stage is occupied and none was chosen.", field="version")


def _check_lead(standing: Standing, model: str) -> None:
    if standing.review is not Review.APPROVED or standing.retired or standing.damaged:
        state = "retired" if standing.retired else "damaged" if standing.damaged else standing.review
        raise NotFound(
            f"{model} has no lead version: version {standing.number} would be it and is {state}.",
            field="version",
        )
