"""What looks like a secret is taken out before anything leaves the machine: in addresses, commands and code.

Patterns can be wrong in both directions. They are meant to catch what people put into code and commands by
mistake: passwords and keys that are assigned to a name that says so, and texts of the well-known forms of keys.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

HIDDEN = "[hidden]"
_NAME = (
    r"(?:pass(?:wd|word|phrase)?|pwd|pw|secrets?|tokens?|api[_-]?keys?|access[_-]?keys?|private[_-]?keys?"
    r"|credentials?|auth(?:orization)?|signing[_-]?keys?)"
)
_USERINFO = re.compile(r"(?P<scheme>[a-zA-Z][a-zA-Z0-9+.-]{0,30}://)(?P<user>[^/\s@:'\"]*)(?::[^/\s@'\"]*)?@")
_OPTION = re.compile(rf"^--?(?:[\w-]{{0,40}}[_-])?{_NAME}$", re.IGNORECASE)
_OPTION_WITH_VALUE = re.compile(rf"^((?:--?)?(?:[\w.-]{{0,40}}[_.-])?{_NAME}[=:]).+$", re.IGNORECASE)
_ASSIGNED = re.compile(
    rf"(?:^|[^a-zA-Z0-9])(?:[\w-]{{0,40}}[_-])?{_NAME}['\"]?\]?\s*(?:[:=]|=>|:=)\s*['\"]?(?P<value>[^\s'\",;)]{{4,}})",
    re.IGNORECASE,
)
_LITERAL = re.compile(
    r"^(?![\w.]+[(\[])(?![\d._]+$)(?!(?:None|null|true|false|self|args|os|config|env)\b)(?!\$).+", re.IGNORECASE
)
_FORMS = re.compile(
    # The first are our own: tokens, links to accounts, links to views.
    r"\bktm_[0-9A-Za-z_-]{20,}|\bk[lv]_[0-9A-Za-z_-]{20,}|"
    r"-----BEGIN [A-Z ]*PRIVATE KEY|\bAKIA[0-9A-Z]{16}\b|\bgh[pousr]_[A-Za-z0-9]{20,}|\bglpat-[\w-]{16,}"
    r"|\bxox[abprs]-[\w-]{10,}|\beyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]{5,}|\bsk-[A-Za-z0-9_-]{20,}|\bBearer\s+[\w.~+/-]{16,}"
)
_KEY_BEGINS, _KEY_ENDS = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY"), re.compile(r"-----END [A-Z ]*PRIVATE KEY")


def hide_in_address(text: str) -> str:
    """Take user name and password out of every address in a text; the user name `git` stays."""
    return _USERINFO.sub(lambda match: f"{match['scheme']}{'git@' if match['user'] == 'git' else ''}", text)


_QUERY = re.compile(
    r"(?P<name>[?&](?:[\w.-]{0,40}[._-])?(?:sig|signature|sign|token|key|secret|password|passwd|credential|auth)(?:[_-][\w-]*|s)?=)"
    r"[^&\s#'\"]+",
    re.IGNORECASE,
)
# A name and its password in one word, after an option for them: curl -u bob:pw.
_USER_OPTIONS = frozenset({"-u", "--user", "--proxy-user"})
_USER_AND_PASSWORD = re.compile(r"^([^:/\s]+:)(?!//).+$")
# Programs whose option -p has the password right behind it.
_JOINED_PASSWORD = re.compile(r"(?:^|/)(?:mysql|mariadb)[\w-]*$")


def hide_in_command(words: Sequence[str]) -> list[str]:
    """Return a command's words with what looks like a secret hidden.

    Hidden are values that follow a name such as `--password` or `API_KEY=`, also within a word that is a command itself
    (`bash -c "…"`), names with passwords (`-u bob:pw`), secrets in addresses, and the well-known forms of keys.
    """
    shown: list[str] = []
    hide_next = user_next = False
    joined = any(_JOINED_PASSWORD.search(word) for word in words[:1])
    for word in words:
        if hide_next and not word.startswith("-"):
            shown.append(HIDDEN)
        elif user_next and _USER_AND_PASSWORD.match(word):
            shown.append(_USER_AND_PASSWORD.sub(rf"\1{HIDDEN}", word))
        elif joined and word.startswith("-p") and len(word) > 2:
            shown.append(f"-p{HIDDEN}")
        elif " " in word:
            # A command in one word.
            shown.append(" ".join(hide_in_command(word.split(" "))))
        elif _OPTION_WITH_VALUE.match(word):
            shown.append(_OPTION_WITH_VALUE.sub(rf"\1{HIDDEN}", word))
        else:
            shown.append(_hide_forms(word))
        hide_next, user_next = bool(_OPTION.match(word)), word in _USER_OPTIONS
    return shown


def _hide_forms(text: str) -> str:
    return _FORMS.sub(HIDDEN, _QUERY.sub(rf"\g<name>{HIDDEN}", hide_in_address(text)))


# In what a program prints, only names that say nothing else stand before a secret: a tokenizer prints tokens.
_PRINTED = re.compile(
    r"(?P<name>(?:^|[^a-zA-Z0-9])(?:[\w-]{0,40}[_-])?"
    r"(?:pass(?:wd|word|phrase)|pwd|api[_-]?key|access[_-]?key|secret[_-]?(?:access[_-]?)?key|private[_-]?key"
    r"|client[_-]?secret|authorization)['\"]?\]?\s*(?:[:=]|=>|:=)\s*['\"]?)(?P<value>[^\s'\",;)]{4,})",
    re.IGNORECASE,
)
# What has none of these, in lowercase, has no secret that could be told: looked for much faster than the patterns.
_SIGNS = (
    *("pass", "pwd", "key", "secret", "authoriz", "ktm_", "kl_", "kv_", "private", "ghp_", "gho_", "ghu_", "ghs_"),
    *("ghr_", "glpat-", "xox", "eyj", "sk-", "akia", "bearer", "://", "?"),
)


def hide_in_output(text: str) -> str:
    """Hide what looks like a secret in a piece of what a program printed; the rest stays as it is."""
    lower = text.lower()
    if not any(sign in lower for sign in _SIGNS):
        return text
    return _PRINTED.sub(_hide_printed, _hide_forms(text))


def _hide_printed(found: re.Match[str]) -> str:
    return f"{found['name']}{HIDDEN}" if _LITERAL.match(found["value"]) else found[0]


# What may be the beginning of a form that goes on in the next piece, at the end of a word.
_BEGUN = re.compile(
    r"(?:k(?:t(?:m(?:_[\w-]*)?)?)?|k[lv]_[\w-]*|AKIA[0-9A-Z]*|gh[pousr]_\w*|glpat-[\w-]*|xox[\w-]*|eyJ[\w.-]*|sk-[\w-]*"
    r"|(?:passw|passp|pwd|key|secret)[\w-]*['\"]?[:=].*)\Z",
    re.IGNORECASE,
)
_LONGEST_HELD = 300


def unfinished_secret(text: str) -> int:
    """Return how many characters at the end of a piece may be the beginning of a secret; 0 for none."""
    if not text or text[-1].isspace():
        return 0
    tail = text[-_LONGEST_HELD:]
    if len(tail) == _LONGEST_HELD and not any(map(str.isspace, tail)):
        # One word without an end: no secret is as long, and looking through it for every piece would take long.
        return 0
    word = tail.split()[-1]
    begun = _BEGUN.search(word)
    return len(word) - begun.start() if begun else 0


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
            shown.append(_QUERY.sub(rf"\g<name>{HIDDEN}", hide_in_address(line)))
        if _KEY_ENDS.search(line):
            in_key = False
    return "\n".join(shown), hidden
