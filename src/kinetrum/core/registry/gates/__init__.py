"""Gates: what a version must meet to enter a stage, each kind a class of its own, read from TOML, judged on facts."""

from kinetrum.core.registry.gates.approvals import Approvals
from kinetrum.core.registry.gates.better import Better
from kinetrum.core.registry.gates.bound import Bound
from kinetrum.core.registry.gates.card import Card
from kinetrum.core.registry.gates.evidence import Fresh
from kinetrum.core.registry.gates.kind import Evidence, Facts, FormField, Gate, GateCheck, Judge
from kinetrum.core.registry.gates.outcomes import check_gates, read_check
from kinetrum.core.registry.gates.recorded import Recorded
from kinetrum.core.registry.gates.signature import HasSignature
from kinetrum.core.registry.gates.toml import KINDS, add_gate, read_gates, write_gates

__all__ = [
    "KINDS",
    "Approvals",
    "Better",
    "Bound",
    "Card",
    "Evidence",
    "Facts",
    "FormField",
    "Fresh",
    "Gate",
    "GateCheck",
    "HasSignature",
    "Judge",
    "Recorded",
    "add_gate",
    "check_gates",
    "read_check",
    "read_gates",
    "write_gates",
]
