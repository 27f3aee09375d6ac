"""What looks like a secret is taken out before anything leaves the machine: in addresses, commands and code.

Patterns can be wrong in both directions. They are meant to catch what people put into code and commands by
mistake: passwords and keys that are assigned to a name that says so, and texts of the well-known forms of keys.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

HIDDEN = "[hidden]"
_NAME = (
    r"(?:pass(?:wd|word|phrase)?|pwd|secrets?|tokens?|api[_-]?keys?|access[_-]?keys?|private[_-]?keys?"
    r"|credentials?|auth(?:orization)?|signing[_-]?keys?)"
)
_USERINFO = re.compile(r"(?P<scheme>[a-zA-Z][a-zA-Z0-9+.-]*://)(?P<user>[^/\s@:'\"]*)(?::[^/\s@'\"]*)?@")
_OPTION = re.compile(rf"^--?(?:[\w-]*[_-])?{_NAME}$", re.IGNORECASE)
_OPTION_WITH_VALUE = re.compile(rf"^((?:--?)?(?:[\w.-]*[_.-])?{_NAME}[=:]).+$", re.IGNORECASE)
_ASSIGNED = re.compile(
    rf"(?:^|[^a-zA-Z0-9])(?:[\w-]*[_-])?{_NAME}['\"]?\]?\s*(?:[:=]|=>|:=)\s*['\"]?(?P<value>[^\s'\",;)]{{4,}})",
    re.IGNORECASE,
)
_LITERAL = re.compile(
    r"^(?![\w.]+[(\[])(?![\d._]+$)(?!(?:None|null|true|false|self|args|os|config|env)\b)(?!\$).+", re.IGNORECASE
)
_FORMS = re.compile(
    r"-----BEGIN [A-Z ]*PRIVATE KEY|\bAKIA[0-9A-Z]{16}\b|\bgh[pousr]_[A-Za-z0-9]{20,}|\bglpat-[\w-]{16,}"
    r"|\bxox[abprs]-[\w-]{10,}|\beyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]{5,}|\bsk-[A-Za-z0-9_-]{20,}|\bBearer\s+[\w.~+/-]{16,}"
)
_KEY_BEGINS, _KEY_ENDS = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY"), re.compile(r"-----END [A-Z ]*PRIVATE KEY")


def hide_in_address(text: str) -> str:
    """Take user name and password out of every address in a text; the user name `git` stays."""
    return _USERINFO.sub(lambda match: f"{match['scheme']}{'git@' if match['user'] == 'git' else ''}", text)


def hide_in_command(words: Sequence[str]) -> list[str]:
    """Return a command's words with values hidden that follow a name such as `--password` or `API_KEY=`."""
    shown: list[str] = []
    hide_next = False
    for word in words:
        if hide_next and not word.startswith("-"):
            shown.append(HIDDEN)
        elif _OPTION_WITH_VALUE.match(word):
            shown.append(_OPTION_WITH_VALUE.sub(rf"\1{HIDDEN}", word))
        else:
            shown.append(_FORMS.sub(HIDDEN, hide_in_address(word)))
        hide_next = bool(_OPTION.match(word))
    return shown


def looks_secret(line: str) -> bool:
    """Tell whether a line of code or configuration seems to hold a secret."""
    if _FORMS.search(line):
        return True
    return any(_LITERAL.match(match["value"]) for match in _ASSIGNED.finditer(line))


def hide_in_lines(text: str) -> tuple[str, int]:
    """Hide lines that look like secrets; returns the text and how many lines those were.

    The sign at the beginning of a line of a difference stays; a private key is hidden to its end.
    """
    shown, hidden, in_key = [], 0, False
    for line in text.split("\n"):
        in_key = in_key or bool(_KEY_BEGINS.search(line))
        if in_key or looks_secret(line):
            sign = line[0] if line[:1] in {"+", "-", " "} else ""
            shown.append(f"{sign}[a line that looks like a secret was left out]")
            hidden += 1
        else:
            shown.append(hide_in_address(line))
        if _KEY_ENDS.search(line):
            in_key = False
    return "\n".join(shown), hidden
