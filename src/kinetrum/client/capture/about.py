"""What is known of a process at once: command, user, interpreter; and which parts of a run's surroundings are left out.

Each part can be left out: `begin(leave_out=("output", "code"))`, KINETRUM_LEAVE_OUT=output,code, or in
kinetrum.toml `leave_out = ["output", "code"]`; `all` leaves out every part.

Loaded by commands that record a line and leave, so it takes nothing that is heavy.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable

from kinetrum.core.base.errors import InvalidInput

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kinetrum.core.base.values import Value

PARTS = ("command", "user", "host", "packages", "code", "job", "resources", "output", "figures")


def parts_left_out(chosen: Iterable[str] | str | None) -> frozenset[str]:
    """Return the parts that are not caught: as the argument says, else the environment, else kinetrum.toml."""
    source = "leave_out"
    if chosen is None and "KINETRUM_LEAVE_OUT" in os.environ:
        chosen, source = os.environ["KINETRUM_LEAVE_OUT"], "KINETRUM_LEAVE_OUT"
    if chosen is None:
        from kinetrum.client.transport.connection import nearest_file

        chosen, source = nearest_file().get("leave_out", ()), "leave_out in kinetrum.toml"
    if not isinstance(chosen, str | Iterable):
        raise InvalidInput(f"{source} is a list of {', '.join(PARTS)} or all.", field="leave_out")
    words = chosen.replace(" ", "").split(",") if isinstance(chosen, str) else list(chosen)
    named = [word for word in words if word]
    wrong = next((word for word in named if word not in {*PARTS, "all"}), None)
    if wrong is not None:
        raise InvalidInput(
            f"{source}: unknown part {wrong!r}. Choose among: {', '.join(PARTS)}, all.", field="leave_out"
        )
    return frozenset(PARTS if "all" in named else named)


def about_process(left_out: frozenset[str]) -> dict[str, Value]:
    """Return what is known at once: command, user, interpreter, process."""
    facts: dict[str, Value] = {}
    if "command" not in left_out:
        # As it was typed; of the interpreter only the name, which says as much and is the same on every machine.
        typed = [os.path.basename(sys.orig_argv[0]), *sys.orig_argv[1:]] if sys.orig_argv else sys.argv
        facts["command"] = command_line(typed)
    if "user" not in left_out:
        facts["user"] = user_name()
    if "packages" not in left_out:
        facts["python"] = sys.version.split()[0]
    return facts | {"process": os.getpid()}


def command_line(words: list[str]) -> str:
    """Write a command as it would be typed, what looks like a secret hidden."""
    import shlex

    from kinetrum.core.text.secrets import hide_in_command

    return " ".join(shlex.quote(word) if word != "[hidden]" else word for word in hide_in_command(words))[:2_000]


def user_name() -> str:
    """Return the name of the person's account on this machine."""
    for variable in ("LOGNAME", "USER", "LNAME", "USERNAME"):
        if os.environ.get(variable):
            return os.environ[variable]
    import pwd

    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return str(os.getuid())
