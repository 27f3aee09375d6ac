"""What a model is, and what people set of it: purpose, card, rules, gates, ladder."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self, cast

from kinetrum.client.reading.notes import Noted
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


class ModelSettings(Noted):
    """A registered model as last read, without its versions."""

    def __init__(self, session: Session, data: answers.Model) -> None:
        self._session, self.data = session, data

    @property
    def name(self) -> str:
        """Its name."""
        return self.data["name"]

    @property
    def project(self) -> str:
        """The project that it belongs to."""
        return self.data["project"]

    @property
    def purpose(self) -> str:
        """What it is for."""
        return self.data["purpose"]

    @property
    def person(self) -> str:
        """The person to ask, by full name."""
        return self.data["person"]

    @property
    def labels(self) -> dict[str, str]:
        """Its labels."""
        return dict(self.data["labels"])

    @property
    def gates(self) -> str:
        """The gates of all stages, as TOML."""
        return self._whole()["gates"]

    def _path(self, *more: str) -> str:
        return path_of("projects", self.project, "models", self.name, *more)

    def _noted(self) -> tuple[Session, str, str]:
        return self._session, self.project, f"model:{self.name}"

    def _call(self, method: str, *more: str, **body: object) -> Any:
        return self._session.service.call(method, self._path(*more), json=body)

    @property
    def glance(self) -> answers.ModelAtAGlance:
        """The model as a list of models has it."""
        return cast("answers.ModelAtAGlance", self.data)

    def _whole(self) -> answers.Model:
        """Return everything of the model; one of a list was read at a glance only."""
        if "card" not in self.data:
            self.refresh()
        return self.data

    @property
    def stages(self) -> dict[str, int | None]:
        """Occupant by stage, from the lowest stage to the highest."""
        return {stage["name"]: stage["occupant"] for stage in self.data["stages"]}

    @property
    def warnings(self) -> dict[str, str]:
        """What is wrong with occupants, by stage."""
        return {stage["name"]: stage["warning"] for stage in self.data["stages"] if stage["warning"]}

    @property
    def versions(self) -> list[int]:
        """Version numbers, the newest first."""
        return [version["number"] for version in self._whole()["versions"]]

    @property
    def timeline(self) -> list[answers.StageEvent]:
        """What happened on the stages, the earliest first, with the outcome of every gate that was asked."""
        return list(self._whole()["events"])

    @property
    def lead(self) -> int | None:
        """The lead version's number; None where there is none. Assign a number to choose it, None to leave it open."""
        lead: int | None = self.data["lead"]
        return lead

    @lead.setter
    def lead(self, number: int | None) -> None:
        self.choose_lead(number)

    def choose_lead(self, number: int | None, comment: str = "") -> None:
        """Choose the lead version, or (None) leave it to the highest occupied stage; the journal keeps the comment.

        `number` is the version's. Raises Conflict for one that is not approved, is retired or damaged.
        """
        self._call("PUT", "lead", version=number, comment=comment)
        self.refresh()

    @property
    def card(self) -> str:
        """The card, Markdown. Assign a text to write it; refused where somebody wrote it since it was read."""
        return str(self._whole()["card"])

    @card.setter
    def card(self, text: str) -> None:
        self._call("PUT", "card", card=text, expect=self._whole()["card_revision"])
        self.refresh()

    @property
    def missing_sections(self) -> list[str]:
        """Required sections that the card lacks, leaves empty, or has with the outline's words."""
        return list(self._whole()["missing_sections"])

    def describe(
        self,
        *,
        purpose: str | None = None,
        owner: str | None = None,
        labels: Mapping[str, str | None] | None = None,
        image: str | None = None,
    ) -> Self:
        """Set the purpose, the person to ask (by name), labels (None removes one), the image (`plots@2:tree.png`).

        `owner` is the account's name. Raises NotFound for one that is not a member of the project.
        """
        self.data = self._session.service.call(
            "PATCH",
            self._path(),
            json={"purpose": purpose, "owner": owner, "labels": dict(labels or {}), "image": image},
        )
        return self

    def rule(
        self,
        *,
        approvals_needed: int | None = None,
        second_pair: bool | None = None,
        card_sections: Sequence[str] | None = None,
        renewed_approvals: bool | None = None,
        evidence: Mapping[str, Mapping[str, object]] | None = None,
        confirmed: bool = False,
    ) -> Self:
        """Set the model's rules; what is None stays.

        `approvals_needed`: how many; `second_pair`: not by who registered; `card_sections`: what the card requires;
        `renewed_approvals`: whether approvals older than the newest evidence have to be given again; `evidence`: by the
        name of the data who alone adds it (`{"holdout": {"people": ["rex"], "experiment": "nightly"}}`), all names at
        once. Raises Conflict where approved versions would no longer be, unless `confirmed`; `preview_rules` lists
        them.
        """
        self.data = self._call(
            "PUT",
            "rules",
            confirmed=confirmed,
            **_rules(approvals_needed, second_pair, card_sections, renewed_approvals, evidence),
        )
        return self

    def preview_rules(
        self, *, approvals_needed: int | None = None, renewed_approvals: bool | None = None
    ) -> list[answers.ReviewChange]:
        """Return the versions whose review a change of rules would turn: `number`, `before`, `after`, `stages`.

        What stands on a stage stays there all the same, with the standing that it had.
        `approvals_needed` and `renewed_approvals` are the rules as they would be; None leaves one as it is.
        """
        body = _rules(approvals_needed, None, None, renewed_approvals, None)
        changes: list[answers.ReviewChange] = self._call("POST", "rules", "preview", **body)
        return changes

    @property
    def evidence_rules(self) -> dict[str, answers.EvidenceRule]:
        """What evidence is bound to, by the name of the data: `people`, `experiment`."""
        return dict(self._whole()["evidence_rules"])

    def rename(self, name: str) -> Self:
        """Give it another name; the earlier one goes on leading to it. Raises Conflict where that name is taken."""
        self._call("PUT", "name", name=name)
        self.data["name"] = name
        return self.refresh()

    def set_gates(self, gates: str | os.PathLike[str]) -> Self:
        """Set the gates of all stages: TOML, or the path of a file with it."""
        text = Path(gates).read_text("utf-8") if isinstance(gates, os.PathLike) else gates
        self.data = self._call("PUT", "gates", gates=text)
        return self

    def set_ladder(self, stages: Sequence[Mapping[str, object]]) -> Self:
        """Set the stages from the lowest: `name`, and if wished `asks_approved`, `least_role`, `placers` (names)."""
        self.data = self._call("PUT", "ladder", stages=[dict(stage) for stage in stages])
        return self

    def fetches(self) -> list[answers.Fetch]:
        """Return who fetched which version, asked for how, how often and since when; the latest first."""
        answer: list[answers.Fetch] = self._session.service.get(self._path("fetches"))
        return answer

    def history(self) -> list[answers.JournalRow]:
        """Return what happened to the model and its versions, the latest first."""
        answer: list[answers.JournalRow] = self._session.service.get(
            path_of("projects", self.project, "journal"), subject=self.name
        )
        return answer

    def refresh(self) -> Self:
        """Read the model again and return it."""
        self.data = self._session.service.get(self._path())
        return self


def _rules(
    approvals_needed: int | None,
    second_pair: bool | None,
    card_sections: Sequence[str] | None,
    renewed_approvals: bool | None,
    evidence: Mapping[str, Mapping[str, object]] | None,
) -> dict[str, object]:
    return {
        "approvals_needed": approvals_needed,
        "second_pair": second_pair,
        "renewed_approvals": renewed_approvals,
        "card_sections": None if card_sections is None else list(card_sections),
        "evidence": None if evidence is None else {on: dict(rule) for on, rule in evidence.items()},
    }
