"""Who may do what in a project: one table, asked by the actions and nowhere else."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum


class Role(StrEnum):
    """A person's role in one project; each may all that the one before it may."""

    VIEWER = "viewer"
    CONTRIBUTOR = "contributor"
    APPROVER = "approver"
    MAINTAINER = "maintainer"


class Act(StrEnum):
    """What a role can permit, in the words that a refusal uses."""

    SEE = "see this project"
    RECORD = "record here"
    DESCRIBE = "label or describe"
    REGISTER = "register versions"
    PLACE = "place versions on this stage"
    PLACE_GUARDED = "place versions on a stage that asks for approvers"
    REVIEW = "approve or reject versions"
    ADMINISTER = "administer this project"
    READ_JOURNAL = "read the project's journal"
    CHOOSE_LEAD = "choose the lead version"
    RETIRE = "retire versions"
    EVIDENCE = "add evidence"
    WRITE_CARD = "write a model's card"
    RULE = "change a model's ladder, gates and rules"
    OVERRIDE = "override a gate"
    BIN_OWN = "bin or restore what one recorded"
    BIN_OTHERS = "bin or restore what others recorded"
    PURGE = "purge what is in the bin"


_VIEWER = frozenset({Act.SEE})
_CONTRIBUTOR = _VIEWER | {Act.RECORD, Act.DESCRIBE, Act.REGISTER, Act.PLACE, Act.BIN_OWN, Act.EVIDENCE, Act.WRITE_CARD}
_APPROVER = _CONTRIBUTOR | {Act.REVIEW, Act.PLACE_GUARDED}
_MAINTAINER = frozenset(Act)

TABLE: dict[Role, frozenset[Act]] = {
    Role.VIEWER: _VIEWER,
    Role.CONTRIBUTOR: _CONTRIBUTOR,
    Role.APPROVER: _APPROVER,
    Role.MAINTAINER: _MAINTAINER,
}


def permits(role: Role | None, act: Act) -> bool:
    """Tell whether `role` permits `act`; no role permits nothing."""
    return role is not None and act in TABLE[role]


def highest(roles: Collection[Role]) -> Role:
    """Return the role of several that permits most; there is at least one."""
    order = list(Role)
    return max(roles, key=order.index)


def least_role(act: Act) -> Role:
    """Return the least role that permits `act`, for messages."""
    return next(role for role in Role if act in TABLE[role])
