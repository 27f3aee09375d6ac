"""Reviews, ladders, stages: the state rules, by example and over random sequences of acts."""

from dataclasses import replace

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from kinetrum.core.base.errors import Conflict, InvalidInput, KinetrumError, NotFound, UnexpectedOccupant
from kinetrum.core.base.permissions import TABLE, Act, Role, least_role, permits
from kinetrum.core.registry.ladder import (
    DEFAULT_LADDER,
    Stage,
    Stay,
    check_expected,
    demote,
    find_stage,
    find_standard,
    lead_of,
    make_ladder,
    obstacle,
    promote,
    roll_back,
)
from kinetrum.core.registry.review import (
    Given,
    Review,
    Standing,
    counting_approvals,
    fault_of,
    kept_standing,
    newest_approved,
    review_of,
)

PRODUCTION = DEFAULT_LADDER[2]
YES, NO, OLD_YES, OLD_NO = Given(True), Given(False), Given(True, older=True), Given(False, older=True)


def stays(*numbers: int) -> tuple[Stay, ...]:
    return tuple(Stay(number, "Noor Adair", "14:02") for number in numbers)


def approved(*numbers: int) -> dict[int, Standing]:
    return {number: Standing(number, Review.APPROVED) for number in numbers}


@pytest.mark.parametrize(
    ("verdicts", "needed", "review"),
    [
        ([], 1, Review.PENDING),
        ([YES], 1, Review.APPROVED),
        ([NO], 1, Review.REJECTED),
        ([YES, NO], 1, Review.REJECTED),
        ([YES], 2, Review.PENDING),
        ([YES, YES], 2, Review.APPROVED),
        ([], 0, Review.PENDING),
        ([YES, YES, YES], 2, Review.APPROVED),
        # What was approved before the newest evidence came has to be approved again; a rejection stands.
        ([OLD_YES], 1, Review.PENDING),
        ([OLD_YES, YES], 2, Review.PENDING),
        ([OLD_YES, YES], 1, Review.APPROVED),
        ([OLD_NO, YES], 1, Review.REJECTED),
    ],
)
def test_review(verdicts: list[Given], needed: int, review: Review) -> None:
    assert review_of(verdicts, needed, renewed=True) is review


def test_a_model_may_let_older_approvals_count() -> None:
    assert review_of([OLD_YES], 1, renewed=False) is Review.APPROVED
    assert [counting_approvals([OLD_YES, YES, NO], renewed) for renewed in (True, False)] == [1, 2]


@pytest.mark.parametrize(
    ("standing", "asked", "review"),
    [
        (Standing(1, Review.PENDING, approvals=1), 1, Review.APPROVED),
        (Standing(1, Review.PENDING, approvals=1), 2, Review.PENDING),
        (Standing(1, Review.PENDING, approvals=0), 1, Review.PENDING),
        (Standing(1, Review.PENDING, approvals=0), 0, Review.APPROVED),
        (Standing(1, Review.REJECTED, approvals=3), 1, Review.REJECTED),
        (Standing(1, Review.APPROVED), 5, Review.APPROVED),
    ],
)
def test_an_occupant_keeps_the_standing_of_the_rules_by_which_it_was_placed(
    standing: Standing, asked: int, review: Review
) -> None:
    assert kept_standing(standing, asked).review is review
    retired = kept_standing(replace(standing, retired=True), asked)
    assert (retired.review, retired.retired) == (review, True)


@pytest.mark.parametrize(
    ("standing", "fault"),
    [
        (Standing(3, Review.APPROVED), None),
        (Standing(3, Review.PENDING), None),
        (Standing(3, Review.REJECTED), "version 3 is rejected"),
        (Standing(3, Review.APPROVED, retired=True), "version 3 is retired"),
        (Standing(3, Review.REJECTED, damaged=True), "the stored files of version 3 are damaged"),
    ],
)
def test_what_is_wrong_with_a_version_that_is_fetched(standing: Standing, fault: str | None) -> None:
    assert fault_of(standing) == fault


def test_the_newest_is_the_newest_approved_one() -> None:
    held = [
        Standing(1, Review.APPROVED),
        Standing(2, Review.APPROVED),
        Standing(3, Review.APPROVED, retired=True),
        Standing(4, Review.PENDING),
        Standing(5, Review.REJECTED),
        Standing(6, Review.APPROVED, damaged=True),
    ]
    assert newest_approved(held) == 2
    assert newest_approved(held[3:]) is None


def test_what_a_candidate_is_held_against() -> None:
    standings = approved(1, 2, 3) | {3: Standing(3, Review.REJECTED)}
    # The latest that is not rejected, whatever was emptied since; pending and retired ones count.
    assert find_standard([1, 2, 3], standings) == 2
    assert find_standard([1, 2, 1], standings) == 1
    assert find_standard([3], standings) is None
    assert find_standard([], standings) is None
    assert find_standard([1, 2], {1: Standing(1, Review.APPROVED), 2: Standing(2, Review.PENDING, retired=True)}) == 2


def test_promotion_pushes_and_keeps_what_was_below() -> None:
    stack = promote(stays(1), PRODUCTION, Stay(2), Standing(2, Review.APPROVED), 1, "frost-alarm")
    assert [stay.number for stay in stack] == [1, 2]


@pytest.mark.parametrize(
    "standing",
    [
        Standing(2, Review.PENDING),
        Standing(2, Review.REJECTED),
        Standing(2, Review.APPROVED, retired=True),
        Standing(2, Review.APPROVED, damaged=True),
    ],
)
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
        UnexpectedOccupant, match=r"now holds version 8 \(placed by Noor Adair at 14:02\); you expected version 6"
    ):
        check_expected(stays(8), 6, "frost-alarm", "production")
    with pytest.raises(UnexpectedOccupant, match="is empty now; you expected version 6"):
        check_expected((), 6, "frost-alarm", "production")
    with pytest.raises(UnexpectedOccupant, match="you expected it to be empty"):
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
    with pytest.raises(
        Conflict, match="No other version of frost-alarm that stood on production can stand there; promote"
    ):
        roll_back(stays(1), PRODUCTION, approved(1), 1, "frost-alarm")
    with pytest.raises(Conflict, match="nothing to roll back"):
        roll_back((), PRODUCTION, {}, None, "frost-alarm")


def test_roll_back_never_puts_back_what_it_took_off() -> None:
    retired = approved(1, 2) | {2: Standing(2, Review.APPROVED, retired=True)}
    with pytest.raises(Conflict, match=r"can stand there \(version 2 is retired\); promote one, or demote"):
        roll_back(stays(1, 2, 1), PRODUCTION, retired, 1, "m")
    with pytest.raises(Conflict, match="No other version"):
        roll_back(stays(1, 1, 1), PRODUCTION, approved(1), 1, "m")
    back = roll_back(stays(3, 1, 2, 1), PRODUCTION, retired | approved(3), 1, "m")
    assert ([stay.number for stay in back.stack], [stay.number for stay in back.popped]) == ([3], [1, 2, 1])


def test_a_roll_back_goes_by_the_rules_of_then() -> None:
    pending = {number: Standing(number, Review.PENDING, approvals=1) for number in (1, 2)}
    earlier, later = Stay(1, approvals_asked=1), Stay(2, approvals_asked=1)
    assert roll_back((earlier, later), PRODUCTION, pending, 2, "m").stack == (earlier,)
    with pytest.raises(Conflict, match="version 1 is pending, and production asks for an approved version"):
        roll_back((Stay(1, approvals_asked=2), later), PRODUCTION, pending, 2, "m")


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
    assert lead_of(Stay(2), DEFAULT_LADDER, stacks, approved(1, 2), "m") == 2
    # A rule of today takes the lead from nobody who had it by the rules of then.
    pending = {1: Standing(1, Review.PENDING, approvals=1)}
    assert lead_of(None, DEFAULT_LADDER, {"production": stays(1)}, pending, "m") == 1
    assert lead_of(Stay(1, approvals_asked=1), DEFAULT_LADDER, {}, pending, "m") == 1
    with pytest.raises(NotFound, match="version 1 would be it and is pending"):
        lead_of(Stay(1, approvals_asked=2), DEFAULT_LADDER, {}, pending, "m")
    assert lead_of(None, DEFAULT_LADDER, {"staging": stays(2)}, approved(2), "m") == 2
    with pytest.raises(NotFound, match="no stage is occupied"):
        lead_of(None, DEFAULT_LADDER, {}, {}, "m")
    with pytest.raises(NotFound, match="pending"):
        lead_of(
            None, DEFAULT_LADDER, {"development": (Stay(3, approvals_asked=0),)}, {3: Standing(3, Review.PENDING)}, "m"
        )


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
        while rest and (rest[-1] == self.expected[-1] or obstacle(PRODUCTION, self.standings[rest[-1]])):
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


# Who may do what, whole: each act and the least role that may.
LEAST = {
    Act.SEE: Role.VIEWER,
    **dict.fromkeys(
        (Act.RECORD, Act.DESCRIBE, Act.REGISTER, Act.PLACE, Act.BIN_OWN, Act.EVIDENCE, Act.WRITE_CARD), Role.CONTRIBUTOR
    ),
    **dict.fromkeys((Act.REVIEW, Act.PLACE_GUARDED), Role.APPROVER),
    **dict.fromkeys(
        (
            Act.ADMINISTER,
            Act.READ_JOURNAL,
            Act.CHOOSE_LEAD,
            Act.RETIRE,
            Act.RULE,
            Act.OVERRIDE,
            Act.BIN_OTHERS,
            Act.PURGE,
        ),
        Role.MAINTAINER,
    ),
}


@pytest.mark.parametrize("act", Act)
def test_the_table_of_permissions_is_this_one(act: Act) -> None:
    roles = list(Role)
    for role in roles:
        assert permits(role, act) is (roles.index(role) >= roles.index(LEAST[act])), (role, act)
    assert least_role(act) is LEAST[act]
    assert permits(None, act) is False


def test_roles_only_grow() -> None:
    roles = list(Role)
    for lower, higher in zip(roles, roles[1:], strict=False):
        assert TABLE[lower] < TABLE[higher]
