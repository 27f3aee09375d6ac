"""`completion`: what a shell offers at the tab key: commands, options, and from the service references and keys."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable, Iterable

from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import KinetrumError

# A shell waits for this at each press of the key.
_PATIENCE_S = 2.0
_RUNS_OFFERED = 40
_QUERIES, _KEYS = frozenset({"query"}), frozenset({"sort", "columns", "by", "on", "pareto"})
_ABOUT = """\
Print what makes a shell complete commands, options, references, experiments and keys of kinetrum.

  bash:  kinetrum completion bash > ~/.local/share/bash-completion/completions/kinetrum
  zsh:   kinetrum completion zsh > ~/.zfunc/_kinetrum        (with fpath+=~/.zfunc before compinit)
  fish:  kinetrum completion fish > ~/.config/fish/completions/kinetrum.fish
"""
SCRIPTS = {
    "bash": """\
_kinetrum() {
    local IFS=$'\\n'
    COMPREPLY=($(kinetrum completion --line "${COMP_LINE:0:COMP_POINT}" --breaks "$COMP_WORDBREAKS" 2>/dev/null))
    case ${COMPREPLY[0]} in
        */ | *@ | *:) compopt -o nospace ;;
    esac
}
complete -o default -F _kinetrum kinetrum
""",
    "zsh": """\
#compdef kinetrum
local -a found
found=("${(@f)$(kinetrum completion --line "$LBUFFER" 2>/dev/null)}")
compadd -Q -S '' -- ${(M)found:#*[/@:]}
compadd -Q -- ${found:#(*[/@:]|)}
_files
""",
    "fish": """\
complete -c kinetrum -a '(kinetrum completion --line (commandline -cp) 2>/dev/null)'
""",
}


def add_commands(commands: Commands) -> None:
    """Add this command to the parser."""
    completion = commands.add_parser(
        "completion",
        help="print what makes bash, zsh or fish complete words",
        description=_ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    completion.add_argument("shell", nargs="?", choices=[*SCRIPTS], help="the shell")
    completion.add_argument("--line", help="print what may come at the end of this line; for the shells")
    completion.add_argument("--breaks", default="", help="signs at which the shell divides words; for the shells")
    completion.set_defaults(run=_completion)


def _completion(arguments: argparse.Namespace) -> int:
    if arguments.line is not None:
        # At the tab key nobody reads an error: nothing is offered where something is wrong.
        try:
            words_offered = candidates(arguments.line)
        except KinetrumError:
            words_offered = []
        cut = _shells_part(arguments.line, arguments.breaks)
        for word in words_offered:
            print(word[cut:])
        return 0
    if arguments.shell is None:
        print(_ABOUT, end="")
        return 2
    print(SCRIPTS[arguments.shell], end="")
    return 0


def _shells_part(line: str, breaks: str) -> int:
    """Return how much of the last word the shell takes for words of their own, as bash does at colons."""
    word = "" if line.endswith(" ") else line.rpartition(" ")[2]
    return max((word.rfind(sign) + 1 for sign in breaks if not sign.isspace() and sign not in "\"'"), default=0)


def candidates(line: str) -> list[str]:
    """Return the words that may stand at the end of a line, the last of which may be begun."""
    from kinetrum.cli.commands import make_parser

    words, begun, quoted = _divided(line)
    parser: argparse.ArgumentParser = make_parser()
    positionals: list[str] = []
    value_of: argparse.Action | None = None
    for word in words[1:]:
        below = _commands_of(parser)
        if value_of is not None:
            value_of = None
        elif word.startswith("-"):
            action = parser._option_string_actions.get(word)
            value_of = action if action is not None and action.nargs is None and "=" not in word else None
        elif below is not None:
            if word not in below.choices:
                return []
            parser = below.choices[word]
        else:
            positionals.append(word)
    offered = _offered(parser, value_of, positionals, words, begun)
    if quoted:
        return [] if value_of is None and not _takes_query(parser, positionals) else sorted(offered)
    return sorted({word for word in offered if word.startswith(begun)})


def _divided(line: str) -> tuple[list[str], str, bool]:
    """Return the whole words of a line, the word that is begun, and whether that stands in open quotes."""
    for closing in ("", "'", '"'):
        try:
            words = shlex.split(line + closing)
        except ValueError:
            continue
        if closing or (line and not line[-1].isspace()):
            return words[:-1], words[-1] if words else "", bool(closing)
        return words, "", False
    return line.split(), "", False


def _commands_of(parser: argparse.ArgumentParser) -> Commands | None:
    return next((one for one in parser._actions if isinstance(one, argparse._SubParsersAction)), None)


def _next_positional(parser: argparse.ArgumentParser, positionals: list[str]) -> argparse.Action | None:
    actions = [one for one in parser._actions if not one.option_strings]
    if not actions:
        return None
    last = actions[-1]
    return actions[len(positionals)] if len(positionals) < len(actions) else last if last.nargs in {"*", "+"} else None


def _takes_query(parser: argparse.ArgumentParser, positionals: list[str]) -> bool:
    action = _next_positional(parser, positionals)
    return action is not None and action.dest in _QUERIES


def _offered(
    parser: argparse.ArgumentParser,
    value_of: argparse.Action | None,
    positionals: list[str],
    words: list[str],
    begun: str,
) -> Iterable[str]:
    if value_of is None and begun.startswith("-"):
        return list(parser._option_string_actions)
    below = _commands_of(parser)
    if value_of is None and below is not None:
        return list(below.choices)
    action = value_of or _next_positional(parser, positionals)
    if action is None:
        return []
    if action.choices is not None:
        return [str(choice) for choice in action.choices]
    return _from_service(action, words, begun)


def _from_service(action: argparse.Action, words: list[str], begun: str) -> list[str]:
    offers = _Offers(words)
    try:
        return _named(offers, action, begun)
    finally:
        offers.close()


def _named(offers: _Offers, action: argparse.Action, begun: str) -> list[str]:
    sources: dict[str, Callable[[str], list[str]]] = {
        "experiment": offers.experiments,
        "project": offers.projects,
        "query": offers.of_query,
        "model": offers.models,
        **dict.fromkeys(_KEYS, offers.keys),
    }
    if action.dest in sources:
        return sources[action.dest](begun)
    name = str(action.metavar or action.dest).upper()
    return offers.references(begun) if any(part in name for part in ("REF", "RUN", "@", "WORDS")) else []


class _Offers:
    """What the service has that words may name."""

    def __init__(self, words: list[str]) -> None:
        from kinetrum.client.transport.connection import find_connection
        from kinetrum.client.transport.http import Service, path_of

        self.experiment = _value(words, ("-e", "--experiment"))
        connection = find_connection(project=_value(words, ("--project",)))
        self._service = Service(str(connection.url), connection.token, _PATIENCE_S, connect_s=1.0)
        self._project = connection.project
        self._path_of = path_of

    def _path(self, *parts: str) -> str:
        return self._path_of("projects", self._project, *parts)

    def close(self) -> None:
        """Close the connection."""
        self._service.close()

    def experiments(self, begun: str) -> list[str]:
        """Return names of experiments."""
        return [row["name"] for row in self._service.get(self._path("experiments"))]

    def projects(self, begun: str) -> list[str]:
        """Return names of projects."""
        return [row["name"] for row in self._service.get("/projects")]

    def models(self, begun: str) -> list[str]:
        """Return names of models."""
        return [row["name"] for row in self._service.get(self._path("models"))["models"]]

    def artifacts(self) -> list[str]:
        """Return names of artifacts."""
        return [row["name"] for row in self._service.get(self._path("artifacts"))]

    def keys(self, begun: str) -> list[str]:
        """Return names of parameters, values and labels; of several behind commas, the last."""
        before, comma, _ = begun.rpartition(",")
        return [f"{before}{comma}{name}" for name in self._offers("")]

    def of_query(self, begun: str) -> list[str]:
        """Return what may come next in a query."""
        return self._offers(begun)

    def _offers(self, text: str) -> list[str]:
        where = ("experiments", self.experiment) if self.experiment else ()
        answer = self._service.get(self._path(*where, "offers"), text=text)
        # A shell replaces all that is begun: what stands before the place goes with what is offered there.
        return [text[: answer["at"]] + offer["text"] for offer in answer["offers"]]

    def references(self, begun: str) -> list[str]:
        """Return runs of the experiment that is named, versions of the thing that is, else names of all."""
        if "/" in begun:
            return self._runs(begun.partition("/")[0])
        if "@" in begun:
            return self._versions(begun.partition("@")[0])
        return (
            [
                *(f"{name}/" for name in self.experiments("")),
                *(f"{name}@" for name in (*self.models(""), *self.artifacts())),
                "artifact:",
                "experiment:",
                "model:",
            ]
            if ":" not in begun
            else self._whole(begun)
        )

    def _runs(self, experiment: str) -> list[str]:
        page = self._service.get(self._path("experiments", experiment, "runs"), limit=_RUNS_OFFERED)
        goals = [goal["key"] for goal in page["goals"]]
        return [
            *(row["reference"] for row in page["rows"]),
            f"{experiment}/last",
            *(f"{experiment}/best:{key}" for key in goals),
        ]

    def _versions(self, name: str) -> list[str]:
        if name in self.models(""):
            model = self._service.get(self._path("models", name))
            stages = [f"{name}@{stage['name']}" for stage in model["stages"]]
            return [*(f"{name}@{version['number']}" for version in model["versions"]), *stages]
        rows = self._service.get(self._path("artifacts", name))["versions"]
        return [*(f"{name}@{row['number']}" for row in rows), f"{name}@latest"]

    def _whole(self, begun: str) -> list[str]:
        kind = begun.partition(":")[0]
        if kind not in {"experiment", "model", "artifact"}:
            return []
        named = self.artifacts() if kind == "artifact" else self.models("") if kind == "model" else self.experiments("")
        return [f"{kind}:{name}" for name in named]


def _value(words: list[str], options: tuple[str, ...]) -> str | None:
    """Return the value of an option in words."""
    for at, word in enumerate(words[:-1]):
        if word in options:
            return words[at + 1]
    return next((word.partition("=")[2] for word in words if word.partition("=")[0] in options and "=" in word), None)
