"""Who may add evidence on named data: people by name, or what runs of one experiment found."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kinetrum.core.base.errors import InvalidInput
from kinetrum.core.base.values import check_key, check_name

RULES_LIMIT, PEOPLE_LIMIT = 40, 40


@dataclass(frozen=True)
class EvidenceRule:
    """What evidence on a name is bound to: who adds it (none named: anybody), and the experiment of its run."""

    people: tuple[str, ...] = ()
    experiment: str | None = None

    def refusal(self, on: str, person: str, experiments: Sequence[str]) -> str | None:
        """Say why evidence by a person, from a run of an experiment, does not count; None where it does.

        `experiments`: the names of that experiment, the one that it bears first, then those that it had before.
        """
        if self.people and person not in self.people:
            return f"evidence on {on} is added by {' or '.join(self.people)} alone, not by {person}"
        if self.experiment is not None and self.experiment not in experiments:
            return f"evidence on {on} comes from runs of {self.experiment} alone, not of {experiments[0]}"
        return None

    def to_json(self) -> dict[str, Any]:
        """Return the rule as it is kept."""
        return {"people": list(self.people), "experiment": self.experiment}


def predictions_name(experiment: str, on: str | None) -> str:
    """Return the name of the artifact in which runs of an experiment keep predictions row by row on named data."""
    return re.sub(r"[^a-z0-9._-]+", "-", f"{experiment}-{on or 'rows'}-predictions".lower())[:100]


def read_rules(rules_held: Mapping[str, Any]) -> dict[str, EvidenceRule]:
    """Read rules by the name of the data; a rule that binds to nothing is none.

    Raises InvalidInput that names the part at fault.
    """
    if len(rules_held) > RULES_LIMIT:
        raise InvalidInput(f"A model binds evidence on up to {RULES_LIMIT} names.", field="evidence")
    rules = {}
    for on, parts in rules_held.items():
        check_key(on, "evidence")
        if not isinstance(parts, Mapping) or not set(parts) <= {"people", "experiment"}:
            raise InvalidInput(f"Evidence on {on!r} is bound to people and an experiment.", field="evidence")
        people = [str(name) for name in parts.get("people") or ()]
        if len(people) > PEOPLE_LIMIT:
            raise InvalidInput(f"Evidence on {on!r} is bound to up to {PEOPLE_LIMIT} people.", field="evidence")
        experiment = parts.get("experiment")
        if experiment is not None:
            check_name(experiment, "experiment")
        if people or experiment:
            rules[on] = EvidenceRule(tuple(dict.fromkeys(people)), experiment)
    return rules
