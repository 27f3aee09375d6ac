"""Every page of help has a sentence, an example that works and a text for each argument; mistyped words are told."""

from __future__ import annotations

import argparse
import re
import shlex

import pytest

from kinetrum.cli.commands import make_parser
from kinetrum.cli.help_texts import EXAMPLES, GROUPS, complete_help
from kinetrum.cli.main import main

Page = tuple[str, argparse.ArgumentParser]


def pages(parser: argparse.ArgumentParser, path: tuple[str, ...] = ()) -> list[Page]:
    found = [(" ".join(path), parser)] if path else []
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, below in action.choices.items():
                found += pages(below, (*path, name))
    return found


@pytest.fixture(scope="module")
def whole() -> argparse.ArgumentParser:
    parser = make_parser()
    complete_help(parser)
    return parser


def test_every_page_says_what_it_is_for(whole: argparse.ArgumentParser) -> None:
    for name, page in pages(whole):
        assert page.description, name
        text = page.format_help()
        assert re.search(rf"^  .*kinetrum {name}\b", text, re.M), f"{name} has no example"
        for action in page._actions:
            if not isinstance(action, argparse._SubParsersAction):
                assert action.help, f"{name}: {action.option_strings or action.dest} has no text"


def test_examples_are_understood(whole: argparse.ArgumentParser) -> None:
    names = {name for name, _ in pages(whole)}
    for name, lines in EXAMPLES.items():
        assert name in names
        for line in lines:
            command = re.search(r"kinetrum (.*?)\)?$", line.rpartition("| ")[2])
            assert command, line
            given = whole.parse_args(shlex.split(command[1]))
            assert given.command == name.split()[0]


def test_the_overview_has_each_command_once(capsys: pytest.CaptureFixture[str], whole: argparse.ArgumentParser) -> None:
    commands = [name for name, _ in pages(whole) if " " not in name]
    assert sorted(name for _, names in GROUPS for name in names) == sorted(commands)
    with pytest.raises(SystemExit):
        main(["--help"])
    text = capsys.readouterr().out
    for title, names in GROUPS:
        assert f"\n{title}:\n" in text
        for name in names:
            assert re.search(rf"^  {name} +\S", text, re.M)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["compar", "a/1"], "kinetrum: Unknown command 'compar'. Did you mean 'compare'"),
        (["zzz"], "kinetrum: Unknown command 'zzz'. See 'kinetrum --help'."),
        (["runs", "--experimnt", "e"], "Unknown option '--experimnt'. Did you mean '--experiment'? See"),
        (["runs", "--zzzz"], "Unknown option '--zzzz'. See"),
        (["admin", "tokn", "x"], "kinetrum admin: Unknown command 'tokn'. Did you mean 'token' or 'tokens'?"),
        (
            ["admin", "role", "wren", "boss"],
            "Unknown role 'boss'. Choose one of: viewer, contributor, approver, maintainer, none.",
        ),
        (["whoami", "extra"], "One word too many: 'extra'."),
        (["rename", "a/1"], "The following arguments are required: NAME."),
        (["measure", "loss=1", "--step", "x"], "invalid int value: 'x'"),
    ],
)
def test_what_is_mistyped_is_told(
    words: list[str], said: str, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("sys.argv", ["kinetrum", *words])
    with pytest.raises(SystemExit) as left:
        main()
    assert left.value.code == 2
    told = capsys.readouterr().err
    assert said in told
    assert len(told.splitlines()) == 1


def test_each_command_is_found_in_the_module_that_has_it() -> None:
    """Only that module is loaded for it."""
    from kinetrum.cli.commands import _MODULES, make_parser

    for module, commands in _MODULES.items():
        (action,) = [one for one in make_parser(only=module)._actions if isinstance(one, argparse._SubParsersAction)]
        assert tuple(action.choices) == commands
