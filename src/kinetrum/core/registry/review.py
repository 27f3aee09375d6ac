"""Review: what the standing verdicts of approvers make of a version."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum


class Review(StrEnum):
    """State of a version's review."""

    PENDING = "pending"
    APPROVED = "approved"
    REJECTED = "rejected"


@dataclass(frozen=True)
class Standing:
    """What decides whether a version may stand on a stage."""

    number: int
    review: Review
    retired: bool = False
    damaged: bool = False


def review_of(verdicts: Mapping[str, bool], approvals_needed: int) -> Review:
    """Derive the state from one standing verdict per approver (True approves, False rejects).

    A standing rejection rejects; as many approvals as the model asks approve; else pending.
    """
    if not all(verdicts.values()):
        return Review.REJECTED
    return Review.APPROVED if verdicts and len(verdicts) >= approvals_needed else Review.PENDING
