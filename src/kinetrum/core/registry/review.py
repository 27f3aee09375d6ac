"""Review: what the standing verdicts of approvers make of a version."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum


class Review(StrEnum):
    """State of a version's review."""

    PENDING = "pending"
    APPROVED = "approved"
    REJECTED = "rejected"


@dataclass(frozen=True)
class Standing:
    """What decides whether a version may stand on a stage.

    `approvals`: how many approve it, those older than its newest evidence among them.
    """

    number: int
    review: Review
    retired: bool = False
    damaged: bool = False
    approvals: int = 0


def fault_of(standing: Standing) -> str | None:
    """Say what is wrong with a version that somebody fetches; None where nothing is.

    One that nobody reviewed yet is as it was registered: that is no fault.
    """
    if standing.damaged:
        return f"the stored files of version {standing.number} are damaged"
    if standing.review is Review.REJECTED:
        return f"version {standing.number} is rejected"
    return f"version {standing.number} is retired" if standing.retired else None


def newest_approved(standings: Iterable[Standing]) -> int | None:
    """Return the highest number of those that are approved, not retired and intact; None where none is."""
    fit = [one.number for one in standings if one.review is Review.APPROVED and fault_of(one) is None]
    return max(fit, default=None)


@dataclass(frozen=True)
class Given:
    """The standing verdict of one approver; `older`: it was given before the newest evidence came."""

    approves: bool
    older: bool = False


def counting_approvals(verdicts: Sequence[Given], renewed: bool) -> int:
    """Return how many approvals count; with `renewed` those older than the newest evidence have to be given again."""
    return sum(1 for verdict in verdicts if verdict.approves and not (renewed and verdict.older))


def review_of(verdicts: Sequence[Given], approvals_needed: int, renewed: bool) -> Review:
    """Derive the state from one standing verdict per approver.

    A standing rejection rejects; as many approvals as the model asks approve, at least one; else pending.
    """
    if not all(verdict.approves for verdict in verdicts):
        return Review.REJECTED
    enough = counting_approvals(verdicts, renewed) >= max(1, approvals_needed)
    return Review.APPROVED if enough else Review.PENDING


def kept_standing(standing: Standing, approvals_asked: int) -> Standing:
    """Return how a version stands under the rules by which it was placed, whatever rules change later.

    `approvals_asked`: how many approvals it took then; 0 where the stage asked for none. What people do later counts: a
    rejection, or an approval that is taken back.
    """
    if standing.review is Review.PENDING and standing.approvals >= approvals_asked:
        return replace(standing, review=Review.APPROVED)
    return standing
