"""A whole model under random sequences of acts: reviews, promotions, roll backs, ladders, the lead; against plain lists."""

from __future__ import annotations

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from kinetrum.core.base.errors import KinetrumError
from kinetrum.core.base.permissions import Role
from kinetrum.core.registry import ladder as rules
from kinetrum.core.registry.ladder import DEFAULT_LADDER, Stage, Stay
from kinetrum.core.registry.review import Given, Review, Standing, review_of

NUMBERS = st.integers(1, 4)
PEOPLE = ("noor", "wren", "tomas")
STAGES = ("development", "staging", "production", "orchard-wide")


class Models(RuleBasedStateMachine):
    """What the rules say after every act is what plain lists and the words of the rules say."""

    def __init__(self) -> None:
        super().__init__()
        self.ladder: tuple[Stage, ...] = DEFAULT_LADDER
        self.stacks: dict[str, rules.Stack] = {}
        # Of each stage who stood there, with how many approvals it took then.
        self.plain: dict[str, list[tuple[int, int]]] = {}
        self.verdicts: dict[int, dict[str, bool]] = {number: {} for number in range(1, 5)}
        self.needed = 1
        self.retired: set[int] = set()
        self.damaged: set[int] = set()
        self.lead: int | None = None
        self.lead_needed = 1

    def standing(self, number: int) -> Standing:
        held = [Given(approves) for approves in self.verdicts[number].values()]
        review = review_of(held, self.needed, renewed=True)
        return Standing(
            number, review, number in self.retired, number in self.damaged, sum(one.approves for one in held)
        )

    def standings(self) -> dict[int, Standing]:
        return {number: self.standing(number) for number in self.verdicts}

    def is_approved(self, number: int, needed: int) -> bool:
        """Say it in words of the rules, without asking them."""
        held = self.verdicts[number]
        return all(held.values()) and len(held) >= needed

    def may_stand(self, stage: Stage, number: int, asked: int | None = None) -> bool:
        """Tell whether a version may be placed now, or stay by the rules under which it was."""
        # The rules of today take one approval at least.
        approved = self.is_approved(number, max(1, self.needed)) or (
            asked is not None and self.is_approved(number, asked)
        )
        return number not in self.retired | self.damaged and (approved or not stage.asks_approved)

    def named(self, name: str) -> Stage | None:
        return next((stage for stage in self.ladder if stage.name == name), None)

    def occupant(self, name: str) -> int | None:
        held = self.plain.get(name)
        return held[-1][0] if held else None

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
            stage is not None
            and expect == self.occupant(name)
            and number != self.occupant(name)
            and self.may_stand(stage, number)
        )
        before = self.stacks.get(name, ())
        try:
            found = rules.find_stage(self.ladder, name, "m")
            asked = self.needed if found.asks_approved else 0
            after = rules.promote(
                before, found, Stay(number, approvals_asked=asked), self.standing(number), expect, "m"
            )
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            self.stacks[name] = after
            self.plain.setdefault(name, []).append((number, asked))

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
        while stage and rest and (rest[-1][0] == held[-1][0] or not self.may_stand(stage, *rest[-1])):
            rest = rest[:-1]
        allowed = stage is not None and bool(held) and expect == self.occupant(name) and bool(rest)
        try:
            found = rules.find_stage(self.ladder, name, "m")
            back = rules.roll_back(self.stacks.get(name, ()), found, self.standings(), expect, "m")
        except KinetrumError:
            assert not allowed
        else:
            assert allowed
            assert [stay.number for stay in back.popped] == [number for number, _ in reversed(held[len(rest) :])]
            assert back.stack[-1].number != held[-1][0]
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
            self.lead, self.lead_needed = number, self.needed

    @invariant()
    def stacks_are_the_lists(self) -> None:
        for name, held in self.plain.items():
            assert [(stay.number, stay.approvals_asked) for stay in self.stacks.get(name, ())] == held

    @invariant()
    def occupied_stages_are_on_the_ladder(self) -> None:
        names = {stage.name for stage in self.ladder}
        assert all(name in names for name, held in self.plain.items() if held)

    @invariant()
    def the_lead_is_sound_or_none(self) -> None:
        highest = next(
            (self.plain[stage.name][-1] for stage in reversed(self.ladder) if self.plain.get(stage.name)), (None, 0)
        )
        wanted, asked = highest if self.lead is None else (self.lead, self.lead_needed)
        sound = wanted is not None and (
            self.is_approved(wanted, max(1, asked)) or self.is_approved(wanted, max(1, self.needed))
        )
        sound = sound and wanted not in self.retired | self.damaged
        chosen = None if self.lead is None else Stay(self.lead, approvals_asked=self.lead_needed)
        try:
            found = rules.lead_of(chosen, self.ladder, self.stacks, self.standings(), "m")
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
                assert self.stacks[name][-1].number == held[-1][0]


TestModels = Models.TestCase
TestModels.settings = settings(max_examples=80, stateful_step_count=40, deadline=None)
