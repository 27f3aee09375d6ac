"""A whole model under random sequences of acts: reviews, promotions, roll backs, ladders, the lead; against plain lists."""

from __future__ import annotations

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from kinetrum.core.errors import KinetrumError
from kinetrum.core.permissions import Role
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stage, Stay
from kinetrum.core.registry.review import Review, Standing, review_of

NUMBERS = st.integers(1, 4)
PEOPLE = ("noor", "wren", "tomas")
STAGES = ("development", "staging", "production", "orchard-wide")


class Models(RuleBasedStateMachine):
    """What the rules say after every act is what plain lists and the words of the rules say."""

    def __init__(self) -> None:
        super().__init__()
        self.ladder: tuple[Stage, ...] = DEFAULT_LADDER
        self.stacks: dict[str, rules.Stack] = {}
        self.plain: dict[str, list[int]] = {}
        self.verdicts: dict[int, dict[str, bool]] = {number: {} for number in range(1, 5)}
        self.needed = 1
        self.retired: set[int] = set()
        self.damaged: set[int] = set()
        self.lead: int | None = None

    def standing(self, number: int) -> Standing:
        review = review_of(self.verdicts[number], self.needed)
        return Standing(number, review, number in self.retired, number in self.damaged)

    def standings(self) -> dict[int, Standing]:
        return {number: self.standing(number) for number in self.verdicts}

    def may_stand(self, stage: Stage, number: int) -> bool:
        """Say it in words of the rules, without asking them."""
        held = self.verdicts[number]
        approved = bool(held) and all(held.values()) and len(held) >= self.needed
        return number not in self.retired | self.damaged and (approved or not stage.asks_approved)

    def named(self, name: str) -> Stage | None:
        return next((stage for stage in self.ladder if stage.name == name), None)

    def occupant(self, name: str) -> int | None:
        held = self.plain.get(name)
        return held[-1] if held else None

    @rule(number=NUMBERS, person=st.sampled_from(PEOPLE), approves=st.none() | st.booleans())
    def review(self, number: int, person: str, approves: bool | None) -> None:
        if approves is None:
            self.verdicts[number].pop(person, None)
        else:
            self.verdicts[number][person] = approves

    @rule(needed=st.integers(1, 3))
    def ask_more(self, needed: int) -> None:
        self.needed = needed

    @rule(number=NUMBERS)
    def retire(self, number: int) -> None:
        self.retired ^= {number}

    @rule(number=NUMBERS)
    def damage(self, number: int) -> None:
        self.damaged ^= {number}

    @rule(number=NUMBERS, name=st.sampled_from(STAGES), seen=st.booleans(), other=st.none() | NUMBERS)
    def promote(self, number: int, name: str, seen: bool, other: int | None) -> None:
        stage = self.named(name)
        expect = self.occupant(name) if seen else other
        allowed = (
            stage is not None and expect == self.occupant(name) and number != self.occupant(name)
            and self.may_stand(stage, number)
        )  # fmt: skip
        before = self.stacks.get(name, ())
        try:
            found = rules.find_stage(self.ladder, name, "m")
            after = rules.promote(before, found, Stay(number), self.standing(number), expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            self.stacks[name] = after
            self.plain.setdefault(name, []).append(number)

    @rule(name=st.sampled_from(STAGES), seen=st.booleans(), other=st.none() | NUMBERS)
    def demote(self, name: str, seen: bool, other: int | None) -> None:
        expect = self.occupant(name) if seen else other
        allowed = self.named(name) is not None and bool(self.plain.get(name)) and expect == self.occupant(name)
        try:
            found = rules.find_stage(self.ladder, name, "m")
            after = rules.demote(self.stacks.get(name, ()), found, expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            assert after == ()
            self.stacks[name], self.plain[name] = (), []

    @rule(name=st.sampled_from(STAGES), seen=st.booleans(), other=st.none() | NUMBERS)
    def roll_back(self, name: str, seen: bool, other: int | None) -> None:
        stage, held = self.named(name), self.plain.get(name, [])
        expect = self.occupant(name) if seen else other
        rest = held[:-1]
        while stage and rest and not self.may_stand(stage, rest[-1]):
            rest = rest[:-1]
        allowed = stage is not None and bool(held) and expect == self.occupant(name) and bool(rest)
        try:
            found = rules.find_stage(self.ladder, name, "m")
            back = rules.roll_back(self.stacks.get(name, ()), found, self.standings(), expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            assert [stay.number for stay in back.popped] == list(reversed(held[len(rest) :]))
            self.stacks[name], self.plain[name] = back.stack, rest

    @rule(names=st.lists(st.sampled_from(STAGES), min_size=0, max_size=4), asks=st.booleans())
    def change_ladder(self, names: list[str], asks: bool) -> None:
        wanted = [Stage(name, asks, Role.CONTRIBUTOR) for name in names]
        occupied = {name for name, held in self.plain.items() if held and self.named(name)}
        allowed = bool(names) and len(set(names)) == len(names) and occupied <= set(names)
        try:
            after = rules.change_ladder(self.ladder, wanted, self.stacks, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            self.ladder = after

    @rule(number=st.none() | NUMBERS)
    def choose_lead(self, number: int | None) -> None:
        # The act refuses one that could not lead; later it may lose what it had.
        if number is None or self.standing(number).review is Review.APPROVED:
            self.lead = number

    @invariant()
    def stacks_are_the_lists(self) -> None:
        for name, held in self.plain.items():
            assert [stay.number for stay in self.stacks.get(name, ())] == held

    @invariant()
    def occupied_stages_are_on_the_ladder(self) -> None:
        names = {stage.name for stage in self.ladder}
        assert all(name in names for name, held in self.plain.items() if held)

    @invariant()
    def the_lead_is_sound_or_none(self) -> None:
        highest = next(
            (self.occupant(stage.name) for stage in reversed(self.ladder) if self.occupant(stage.name)), None
        )
        wanted = self.lead if self.lead is not None else highest
        sound = wanted is not None and self.standing(wanted).review is Review.APPROVED
        sound = sound and wanted not in self.retired | self.damaged
        try:
            found = rules.lead_of(self.lead, self.ladder, self.stacks, self.standings(), "m")
        except KinetrumError:
            assert not sound
        else:
            assert sound
            assert found == wanted

    @precondition(lambda self: any(self.plain.values()))
    @invariant()
    def a_rejection_seats_nobody_off(self) -> None:
        for name, held in self.plain.items():
            if held:
                assert self.occupant(name) == held[-1]


TestModels = Models.TestCase
TestModels.settings = settings(max_examples=80, stateful_step_count=40, deadline=None)
