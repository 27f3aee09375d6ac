"""Ladders: promote, demote, roll back. Pure: old stacks in, new stacks or an error out.

Each stage keeps a stack of the versions that were placed on it; the last is its occupant.
Every act names the occupant that its author saw; where another stands there, it is refused.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kinetrum.core.base.errors import Conflict, InvalidInput, NotFound, UnexpectedOccupant
from kinetrum.core.base.permissions import Role
from kinetrum.core.base.values import check_name
from kinetrum.core.registry.review import Review, Standing, kept_standing

LADDER_LIMIT = 12


@dataclass(frozen=True)
class Stage:
    """One rung: its name, whether it asks for an approved version, and who may place.

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
    """A version on a stage, who placed it and when (ISO 8601), for messages.

    `approvals_asked`: how many approvals the stage took then, 0 where it asked for none.
    """

    number: int
    placed_by: str = ""
    placed_at: str = ""
    approvals_asked: int = 1


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
    if occupant is None:
        holds = "is empty now"
    else:
        placed = f" (placed by {occupant.placed_by} at {_minute(occupant.placed_at)})" if occupant.placed_by else ""
        holds = f"now holds version {occupant.number}{placed}"
    expected = f"you expected version {expect}" if expect is not None else "you expected it to be empty"
    raise UnexpectedOccupant(
        f"The stage {stage} of {model} {holds}; {expected}. Look at it and try again.", field="expect"
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
        return f"version {standing.number} is {standing.review}, and {stage.name} asks for an approved version"
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
    """Pop the occupant, and what below it is the same version or cannot stand any more, until another one can.

    Each stands under the rules by which it was placed. Raises Conflict, changing nothing, where none is left.
    """
    check_expected(stack, expect, model, stage.name)
    if not stack:
        raise Conflict(f"The stage {stage.name} of {model} is empty; there is nothing to roll back.", field="stage")
    rest, passed = stack[:-1], dict[int, str]()
    while rest:
        number = rest[-1].number
        reason = obstacle_of(stage, rest[-1], standings)
        if number != stack[-1].number and reason is None:
            return RolledBack(rest, tuple(reversed(stack[len(rest) :])))
        if number != stack[-1].number and reason is not None:
            passed[number] = reason
        rest = rest[:-1]
    why = f" ({'; '.join(passed.values())})" if passed else ""
    raise Conflict(
        f"No other version of {model} that stood on {stage.name} can stand there{why}; promote one, or demote to empty "
        "the stage.",
        field="stage",
    )


def obstacle_of(stage: Stage, stay: Stay, standings: Mapping[int, Standing]) -> str | None:
    """Say why a version that was placed on a stage cannot stand there any more; None if it can."""
    return obstacle(stage, kept_standing(standings[stay.number], stay.approvals_asked))


def find_standard(placed: Sequence[int], standings: Mapping[int, Standing]) -> int | None:
    """Return the version that a candidate for a stage is held against: the latest there that is not rejected.

    `placed`: the versions that came to stand on the stage, the latest last; an emptied stage has them too.
    """
    for number in reversed(placed):
        if standings[number].review is not Review.REJECTED:
            return number
    return None


def lead_of(
    chosen: Stay | None,
    ladder: Sequence[Stage],
    stacks: Mapping[str, Stack],
    standings: Mapping[int, Standing],
    model: str,
) -> int:
    """Return the lead version: the chosen one, else the occupant of the highest occupied stage.

    It is always approved, by the rules under which it was chosen or placed, not retired and intact; raises NotFound
    where there is none.
    """
    occupants = [stacks[stage.name][-1] for stage in reversed(ladder) if stacks.get(stage.name)]
    stay = chosen or (occupants[0] if occupants else None)
    if stay is not None:
        _check_lead(kept_standing(standings[stay.number], max(1, stay.approvals_asked)), model)
        return stay.number
    raise NotFound(f"{model} has no lead version: no stage is occupied and none was chosen.", field="version")


def _check_lead(standing: Standing, model: str) -> None:
    if standing.review is not Review.APPROVED or standing.retired or standing.damaged:
        state = "retired" if standing.retired else "damaged" if standing.damaged else standing.review
        raise NotFound(
            f"{model} has no lead version: version {standing.number} would be it and is {state}.",
            field="version",
        )
