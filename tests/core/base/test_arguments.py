"""A command's options read as parameters."""

from __future__ import annotations

import json

import pytest

from kinetrum.core.text.command_options import options_of


@pytest.mark.parametrize(
    ("typed", "found"),
    [
        ("python train.py", {}),
        ("python", {}),
        ("train --max-iter 500", {"arg.max-iter": 500}),
        ("train --max-iter=500 --name=frost", {"arg.max-iter": 500, "arg.name": "frost"}),
        ("train --lr -0.1 -n 5", {"arg.lr": -0.1, "arg.n": 5}),
        ("train --verbose --depth 3 --no-shuffle", {"arg.verbose": True, "arg.depth": 3, "arg.no-shuffle": True}),
        ("train --tag a --tag b --tag=3", {"arg.tag": ["a", "b", 3]}),
        ("train --empty= --sum a=b", {"arg.empty": "", "arg.sum": "a=b"}),
        ("train data.csv --depth 3 more.csv", {"arg.depth": 3}),
        ("train --depth 3 -- --not-mine 4", {"arg.depth": 3}),
        ("train --flag -- 4", {"arg.flag": True}),
        ("train - -- -1 --", {}),
        # What belongs to the interpreter is none of the program's.
        ("python3.11 -u -W ignore -X dev train.py --depth 3", {"arg.depth": 3}),
        ("/opt/env/bin/python -m frost.train -u --depth 3", {"arg.u": True, "arg.depth": 3}),
        ("python -c pass --depth 3", {"arg.depth": 3}),
        ("torchrun --nproc 2 train.py --lr 3", {"arg.nproc": 2, "arg.lr": 3}),
        # What looks like a secret stays where it is.
        ("train --password hunter2 --api-key=k --depth 3", {"arg.depth": 3}),
    ],
)
def test_options(typed: str, found: dict[str, object]) -> None:
    assert options_of(typed.split()) == found


def test_lists() -> None:
    assert options_of(["train", "--grid", "[1, 2]"]) == {"arg.grid": [1, 2]}
    assert options_of(["train", "--grid", "[1, 2]", "--grid", "[3]"]) == {"arg.grid": [[1, 2], [3]]}


def test_nothing_is_refused() -> None:
    """A command that runs by itself has to run, whatever its options look like."""
    deep = "[" * 60 + "]" * 60
    assert options_of(["train", "--grid", deep])["arg.grid"] in (deep, json.loads(deep))
    text = options_of(["train", "--prompt", "x" * 16_384, "--more", "y" * 16_385])
    assert (len(text["arg.prompt"]), len(text["arg.more"]), text["arg.more"][-2:]) == (16_384, 16_384, "y…")
    longest = "--" + "k" * (250 - len("arg."))
    assert len(options_of(["train", longest, "1"])) == 1
    assert options_of(["train", longest + "k", "1", "--depth", "3"]) == {"arg.depth": 3}
    many = [word for at in range(5_000) for word in ("--file", f"{at}.csv")]
    assert isinstance(options_of(["train", *many])["arg.file"], str | list)
    assert options_of([]) == options_of(["train", "--", "--x"]) == {}
