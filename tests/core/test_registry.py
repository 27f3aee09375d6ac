"""Reviews, ladders, stages: the state rules, by example and over random sequences of acts."""

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from kinetrum.core.errors import Conflict, InvalidInput, KinetrumError, NotFound, UnexpectedOccupant
from kinetrum.core.permissions import TABLE, Act, Role, least_role, permits
from kinetrum.core.registry.ladder import (
    DEFAULT_LADDER,
    Stage,
    Stay,
    check_expected,
    demote,
    find_stage,
    lead_of,
    make_ladder,
    obstacle,
    promote,
    roll_back,
)
from kinetrum.core.registry.review import Review, Standing, review_of

PRODUCTION = DEFAULT_LADDER[2]


def stays(*numbers: int) -> tuple[Stay, ...]:
    return tuple(Stay(number, "Noor Adair", "14:02") for number in numbers)


def approved(*numbers: int) -> dict[int, Standing]:
    return {number: Standing(number, Review.APPROVED) for number in numbers}


@pytest.mark.parametrize(
    ("verdicts", "needed", "review"),
    [
        ({}, 1, Review.PENDING), ({"a": True}, 1, Review.APPROVED), ({"a": False}, 1, Review.REJECTED),
        ({"a": True, "b": False}, 1, Review.REJECTED), ({"a": True}, 2, Review.PENDING),
        ({"a": True, "b": True}, 2, Review.APPROVED), ({}, 0, Review.PENDING),
    ],
)  # fmt: skip
def test_review(verdicts: dict[str, bool], needed: int, review: Review) -> None:
    assert review_of(verdicts, needed) is review


def test_promotion_pushes_and_keeps_what_was_below() -> None:
    stack = promote(stays(1), PRODUCTION, Stay(2), Standing(2, Review.APPROVED), 1, "frost-alarm")
    assert [stay.number for stay in stack] == [1, 2]


@pytest.mark.parametrize(
    "standing",
    [Standing(2, Review.PENDING), Standing(2, Review.REJECTED), Standing(2, Review.APPROVED, retired=True),
     Standing(2, Review.APPROVED, damaged=True)],
)  # fmt: skip
def test_what_cannot_stand_is_not_promoted(standing: Standing) -> None:
    with pytest.raises(Conflict, match="was not promoted"):
        promote((), PRODUCTION, Stay(2), standing, None, "frost-alarm")


def test_development_asks_nothing_but_a_sound_version() -> None:
    development = DEFAULT_LADDER[0]
    assert obstacle(development, Standing(1, Review.PENDING)) is None
    assert obstacle(development, Standing(1, Review.REJECTED)) is None
    assert obstacle(development, Standing(1, Review.APPROVED, retired=True)) is not None


def test_an_unexpected_occupant_is_told_with_its_author() -> None:
    with pytest.raises(
        UnexpectedOccupant, match=r"now holds version 8 \(placed by Noor Adair at 14:02\), not version 6"
    ):
        check_expected(stays(8), 6, "frost-alarm", "production")
    with pytest.raises(UnexpectedOccupant, match="is empty now, not version 6"):
        check_expected((), 6, "frost-alarm", "production")
    with pytest.raises(UnexpectedOccupant, match="not no version"):
        check_expected(stays(8), None, "frost-alarm", "production")
    check_expected(stays(8), 8, "frost-alarm", "production")


def test_moments_are_told_to_the_minute() -> None:
    stack = (Stay(8, "Noor Adair", "2026-11-23T14:02:10.593441Z"),)
    with pytest.raises(UnexpectedOccupant, match=r"placed by Noor Adair at 2026-11-23 14:02 UTC\)"):
        check_expected(stack, 6, "frost-alarm", "production")


def test_the_occupant_is_not_promoted_again() -> None:
    with pytest.raises(Conflict, match="already"):
        promote(stays(2), PRODUCTION, Stay(2), Standing(2, Review.APPROVED), 2, "frost-alarm")


def test_roll_back_skips_what_can_stand_no_more() -> None:
    standings = approved(1, 2, 3, 4) | {3: Standing(3, Review.REJECTED), 2: Standing(2, Review.APPROVED, retired=True)}
    back = roll_back(stays(1, 2, 3, 4), PRODUCTION, standings, 4, "frost-alarm")
    assert [stay.number for stay in back.stack] == [1]
    assert [stay.number for stay in back.popped] == [4, 3, 2]


def test_roll_back_to_nothing_is_an_error() -> None:
    with pytest.raises(Conflict, match="No earlier version"):
        roll_back(stays(1), PRODUCTION, approved(1), 1, "frost-alarm")
    with pytest.raises(Conflict, match="nothing to roll back"):
        roll_back((), PRODUCTION, {}, None, "frost-alarm")


def test_a_rejected_occupant_can_be_rolled_back_from() -> None:
    standings = approved(1) | {2: Standing(2, Review.REJECTED)}
    assert [s.number for s in roll_back(stays(1, 2), PRODUCTION, standings, 2, "m").stack] == [1]


def test_demotion_clears() -> None:
    assert demote(stays(1, 2), PRODUCTION, 2, "m") == ()
    with pytest.raises(Conflict):
        demote((), PRODUCTION, None, "m")


def test_lead() -> None:
    stacks = {"staging": stays(2), "production": stays(1)}
    assert lead_of(None, DEFAULT_LADDER, stacks, approved(1, 2), "m") == 1
    assert lead_of(2, DEFAULT_LADDER, stacks, approved(1, 2), "m") == 2
    assert lead_of(None, DEFAULT_LADDER, {"staging": stays(2)}, approved(2), "m") == 2
    with pytest.raises(NotFound, match="no stage is occupied"):
        lead_of(None, DEFAULT_LADDER, {}, {}, "m")
    with pytest.raises(NotFound, match="pending"):
        lead_of(None, DEFAULT_LADDER, {"development": stays(3)}, {3: Standing(3, Review.PENDING)}, "m")


def test_ladders_are_checked() -> None:
    assert make_ladder(DEFAULT_LADDER) == DEFAULT_LADDER
    with pytest.raises(InvalidInput):
        make_ladder([])
    with pytest.raises(InvalidInput):
        make_ladder([DEFAULT_LADDER[0], DEFAULT_LADDER[0]])
    with pytest.raises(InvalidInput):
        make_ladder([Stage("Production", True, Role.APPROVER)])
    with pytest.raises(NotFound, match="development, staging, production"):
        find_stage(DEFAULT_LADDER, "prod", "m")


class Ladders(RuleBasedStateMachine):
    """One stage, any acts in any order, against the plainest model of it: a list."""

    def __init__(self) -> None:
        super().__init__()
        self.stack: tuple[Stay, ...] = ()
        self.expected: list[int] = []
        self.standings = {number: Standing(number, Review.PENDING) for number in range(1, 6)}

    def occupant(self) -> int | None:
        return self.expected[-1] if self.expected else None

    @rule(number=st.integers(1, 5), review=st.sampled_from(Review), retired=st.booleans(), damaged=st.booleans())
    def judge(self, number: int, review: Review, retired: bool, damaged: bool) -> None:
        self.standings[number] = Standing(number, review, retired, damaged)

    @rule(number=st.integers(1, 5), expect=st.none() | st.integers(1, 5))
    def promote(self, number: int, expect: int | None) -> None:
        standing = self.standings[number]
        fits = standing.review is Review.APPROVED and not standing.retired and not standing.damaged
        allowed = expect == self.occupant() and number != self.occupant() and fits
        try:
            self.stack = promote(self.stack, PRODUCTION, Stay(number), standing, expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            self.expected.append(number)

    @rule(expect=st.none() | st.integers(1, 5))
    def demote(self, expect: int | None) -> None:
        allowed = expect == self.occupant() and self.expected
        try:
            self.stack = demote(self.stack, PRODUCTION, expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            self.expected.clear()

    @rule()
    def roll_back(self) -> None:
        rest = self.expected[:-1]
        while rest and obstacle(PRODUCTION, self.standings[rest[-1]]):
            rest.pop()
        try:
            self.stack = roll_back(self.stack, PRODUCTION, self.standings, self.occupant(), "m").stack
        except KinetrumError:
            assert not rest
        else:
            self.expected = rest

    @invariant()
    def stack_is_the_list(self) -> None:
        assert [stay.number for stay in self.stack] == self.expected


TestLadders = Ladders.TestCase
TestLadders.settings = settings(max_examples=60, stateful_step_count=30)


def test_roles_only_grow() -> None:
    roles = list(Role)
    for lower, higher in zip(roles, roles[1:], strict=False):
        assert TABLE[lower] < TABLE[higher]


@pytest.mark.parametrize(
    ("act", "role"),
    [(Act.SEE, Role.VIEWER), (Act.RECORD, Role.CONTRIBUTOR), (Act.REGISTER, Role.CONTRIBUTOR), (Act.PLACE, Role.CONTRIBUTOR),
     (Act.REVIEW, Role.APPROVER), (Act.PLACE_GUARDED, Role.APPROVER), (Act.RETIRE, Role.MAINTAINER),
     (Act.CHOOSE_LEAD, Role.MAINTAINER), (Act.ADMINISTER, Role.MAINTAINER), (Act.READ_JOURNAL, Role.MAINTAINER)],
)  # fmt: skip
def test_least_role(act: Act, role: Role) -> None:
    assert least_role(act) is role
    assert permits(role, act)
    assert not permits(None, act)
