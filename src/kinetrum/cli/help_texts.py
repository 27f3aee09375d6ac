"""What every page of help says: commands in the order of the job, an example for each, and words that options share."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

GROUPS = (
    ("a service", ("up", "down", "status", "serve", "connect", "whoami", "account", "admin", "secret", "completion")),
    (
        "record",
        (
            "track",
            "begin",
            "set",
            "measure",
            "result",
            "used",
            "generated",
            "activity",
            "end",
            "shell-recorder",
            "spool",
        ),
    ),
    ("find and look", ("find", "runs", "views", "show", "media", "rows", "points", "plot", "history")),
    ("compare", ("compare", "effects")),
    (
        "describe and clear away",
        ("label", "note", "rename", "run-names", "goal", "seeds", "correct", "bin", "purge", "storage"),
    ),
    ("data and files", ("keep", "artifacts", "fetch", "diff", "check", "uses", "lineage", "export", "import")),
    (
        "models",
        (
            "models",
            "register",
            "review",
            "promote",
            "demote",
            "rollback",
            "retire",
            "lead",
            "gates",
            "evidence",
            "card",
            "rules",
            "ladder",
            "lock",
            "fetches",
        ),
    ),
)

EXAMPLES: dict[str, tuple[str, ...]] = {
    "up": ("kinetrum up", "kinetrum up --port 8080"),
    "down": ("kinetrum down",),
    "status": ("kinetrum status",),
    "serve": ("kinetrum serve --database mariadb://kinetrum@db.example:3306/kinetrum --store /srv/kinetrum/store",),
    "connect": ("kinetrum connect https://kinetrum.example --project orchard",),
    "whoami": ("kinetrum whoami",),
    "account": ("kinetrum account", "kinetrum account --password --revoke-tokens"),
    "admin": ("kinetrum admin people",),
    "secret": ("kinetrum secret list",),
    "secret set": ("printf '%s\\n' 'what nobody guesses' | kinetrum secret set pipeline-signature",),
    "secret list": ("kinetrum secret list --project orchard",),
    "secret remove": ("kinetrum secret remove pipeline-signature",),
    "admin new-key": ("kinetrum admin new-key",),
    "admin invite": ("kinetrum admin invite ilse --full-name 'Ilse Varga' --role contributor --project orchard",),
    "admin link": ("kinetrum admin link ilse",),
    "admin person": ("kinetrum admin person ilse --groups growers,forecasters",),
    "admin deactivate": ("kinetrum admin deactivate ilse",),
    "admin reactivate": ("kinetrum admin reactivate ilse",),
    "admin tokens": ("kinetrum admin tokens", "kinetrum admin tokens --machine-of orchard"),
    "admin project": ("kinetrum admin project orchard --open",),
    "admin quota": ("kinetrum admin quota orchard --bytes 20GB --runs-a-day 500",),
    "admin delete-project": ("kinetrum admin delete-project seeds --confirm seeds",),
    "admin deleted-projects": ("kinetrum admin deleted-projects",),
    "admin restore-project": ("kinetrum admin restore-project seeds",),
    "admin remove-project": ("kinetrum admin remove-project seeds --confirm seeds",),
    "admin journal": ("kinetrum admin journal promoted --project orchard --since 2026-11-01",),
    "admin check": ("kinetrum admin check --copies /backup/store",),
    "admin people": ("kinetrum admin people",),
    "admin add-person": (
        "printf '%s\\n' 'a long first password' | kinetrum admin add-person ilse --full-name 'Ilse Varga'",
    ),
    "admin set-password": ("printf '%s\\n' 'another long password' | kinetrum admin set-password ilse",),
    "admin role": (
        "kinetrum admin role ilse contributor --project orchard",
        "kinetrum admin role group:growers viewer --project orchard",
    ),
    "admin add-project": ("kinetrum admin add-project orchard --description 'frost and hail'",),
    "admin token": (
        "kinetrum admin token laptop --scopes read,record --days 30",
        "kinetrum admin token nightly --machine-of orchard --scopes record",
    ),
    "admin revoke-token": ("kinetrum admin revoke-token laptop",),
    "begin": ("export KINETRUM_RUN=$(kinetrum begin frost-alarm --set depth=6)",),
    "set": ("kinetrum set depth=6 learner=forest",),
    "measure": ("kinetrum measure loss=0.31 recall=0.9 --step 7",),
    "result": ("kinetrum result recall=0.913",),
    "used": ("kinetrum used data/nights --role training",),
    "generated": ("kinetrum generated out/frost.onnx --name frost-net --kind model",),
    "activity": ("kinetrum activity preparing -- ./prepare.sh",),
    "end": ("kinetrum end", "kinetrum end --failed 'the disk was full'"),
    "runs": ("kinetrum runs", "kinetrum runs -e frost-alarm 'recall >= 0.9 and depth in {5, 6}' --sort recall"),
    "views": ("kinetrum views -e frost-alarm",),
    "show": ("kinetrum show frost-alarm/42", "kinetrum show frost-alarm/last --output --follow"),
    "compare": ("kinetrum compare frost-alarm/12 frost-alarm/9",),
    "effects": ("kinetrum effects -e frost-alarm --on recall",),
    "points": ("kinetrum points frost-alarm/42 loss --parquet -o loss.parquet",),
    "plot": (
        "kinetrum plot frost-alarm/42 held-out/roc",
        "kinetrum plot frost-alarm/42 held-out/roc --with frost-alarm/9 -o roc.png",
    ),
    "media": ("kinetrum media frost-alarm/42",),
    "rows": ("kinetrum rows frost-alarm/42 --on held-out --wrong",),
    "label": ("kinetrum label frost-alarm/42 purpose=baseline",),
    "note": ("kinetrum note frost-alarm/42 -m 'the sensor in row 4 was wet'",),
    "find": ("kinetrum find station 9",),
    "rename": ("kinetrum rename frost-alarm/42 'deeper trees'", "kinetrum rename experiment:frost-alarm frost-bell"),
    "run-names": ("kinetrum run-names frost-alarm off",),
    "goal": ("kinetrum goal frost-alarm recall higher --bound 0.9",),
    "seeds": ("kinetrum seeds frost-alarm seed fold",),
    "correct": ("kinetrum correct frost-alarm/42 depth=7 -m 'the file was an old one'",),
    "artifacts": ("kinetrum artifacts nights",),
    "keep": ("kinetrum keep data/nights --name nights",),
    "fetch": ("kinetrum fetch frost-alarm@production -o deploy/",),
    "diff": ("kinetrum diff nights@2 nights@3",),
    "uses": ("kinetrum uses nights@3",),
    "check": ("kinetrum check nights@3",),
    "lineage": ("kinetrum lineage frost-alarm@production",),
    "models": ("kinetrum models",),
    "register": ("kinetrum register frost-net --run frost-alarm/12 --as-model frost-alarm",),
    "review": ("kinetrum review frost-alarm@2 --approve",),
    "promote": ("kinetrum promote frost-alarm@2 production",),
    "demote": ("kinetrum demote frost-alarm@staging",),
    "rollback": ("kinetrum rollback frost-alarm@production",),
    "retire": ("kinetrum retire frost-alarm@1 -m 'trained on the wrong year'",),
    "lead": ("kinetrum lead frost-alarm 3",),
    "gates": ("kinetrum gates frost-alarm@3",),
    "evidence": ("kinetrum evidence frost-alarm@3 --run audit/7",),
    "card": ("kinetrum card frost-alarm",),
    "rules": ("kinetrum rules frost-alarm",),
    "ladder": ("kinetrum ladder frost-alarm staging production",),
    "lock": ("kinetrum lock frost-alarm@production",),
    "fetches": ("kinetrum fetches frost-alarm",),
    "history": ("kinetrum history frost-alarm/42",),
    "storage": ("kinetrum storage",),
    "purge": ("kinetrum purge", "kinetrum purge --yes"),
    "export": (
        "kinetrum export experiment:frost-alarm -o frost.zip",
        "kinetrum export --project orchard -o orchard.zip",
        "kinetrum export --everything -o all",
    ),
    "import": ("kinetrum import frost.zip", "kinetrum import all"),
}

# By the name of the argument, and for one command by both.
SHARED = {
    "--json": "print the answer as JSON",
    "--project": "the project, where it is not the one that references name or imply",
    "--experiment": "the experiment",
    "--seed": "the parameter in which replicates differ",
    "--label": "a label; may be repeated",
    "--limit": "how many are listed at most",
    "--output": "where to write",
    "--host": "address to listen on (127.0.0.1)",
    "--port": "port to listen on (7373)",
    "--step": "the step, a whole number",
    "--name": "name of the artifact; without it, one made of the file's name",
    "--kind": "what kind of thing it is, such as data, model or file",
    "--role": "what it was used for, such as training",
    "--description": "what it is for",
    "--title": "a title above the plot",
    "--mark": "how it is drawn: line, steps, points or bars",
    "--y-name": "name of the upright axis",
    "--x-scale": "linear or log",
    "--y-scale": "linear or log",
    "--run": "the run that generated it: frost-alarm/42",
    "--as-model": "the model whose next version it becomes",
    "--person": "the person's name; without it, you",
    "--purpose": "what the model is for",
    "--approvals": "how many approvals a version takes",
    "MODEL@STAGE": "the stage, such as frost-alarm@production",
    "MODEL@VERSION": "the version, such as frost-alarm@3",
    "MODEL@N": "the version, such as frost-alarm@3",
    "ref": "a reference: a run as frost-alarm/42, a version as frost-alarm@3 or nights@2",
    "refs": "references: runs as frost-alarm/42, versions as frost-alarm@3",
    "model": "the model's name",
    "version": "the version's number",
    "stage": "the stage, such as production",
    "stages": "the stages, from the first to the last",
    "experiment": "the experiment",
    "name": "the name",
    "person": "the person's name",
    "path": "a file or folder, or an address",
    "command_words": "the command, behind --",
}
SPECIFIC = {
    ("connect", "url"): "address of the service, such as https://kinetrum.example",
    ("admin add-person", "--full-name"): "the name as people write it",
    ("admin add-person", "--administrator"): "may do everything in every project",
    ("admin role", "role"): "what the person may do in the project; none takes the role away",
    ("measure", "values"): "metrics and their values, such as loss=0.31",
    ("activity", "name"): "name of the piece of work, such as preparing",
    ("end", "--failed"): "it failed, and why",
    ("end", "--stopped"): "it was stopped, and why",
    ("label", "words"): "references, then labels: frost-alarm/42 purpose=baseline",
    ("seeds", "names"): "parameters in which replicates differ; without them they are listed",
    ("diff", "left"): "the earlier version, such as nights@2",
    ("diff", "right"): "the later version, such as nights@3",
    ("review", "--approve"): "approve the version",
    ("review", "--reject"): "reject the version",
    ("review", "--take-back"): "take your verdict back",
    ("import", "path"): "the archive",
}


def groups_text(commands: dict[str, str]) -> str:
    """Return the commands with what they do, in groups, in the order of the job."""
    lines = []
    for title, names in GROUPS:
        lines += ["", f"{title}:"]
        for name in names:
            lines.append(f"  {name:<16}{commands[name]}".rstrip())
    return "\n".join(lines)


def complete_help(parser: argparse.ArgumentParser) -> None:
    """Give every command's page a sentence and an example, and every argument a text."""
    for path, page, about in _pages(parser, (), ""):
        name = " ".join(path)
        if page.description is None and about:
            page.description = f"{about[0].upper()}{about[1:]}."
        if name in EXAMPLES:
            lines = "\n".join(f"  {line}" for line in EXAMPLES[name])
            page.epilog = f"example{'s' if len(EXAMPLES[name]) > 1 else ''}:\n{lines}"
            page.formatter_class = argparse.RawDescriptionHelpFormatter
        for action in page._actions:
            if action.help is None and not isinstance(action, argparse._SubParsersAction):
                words = [*action.option_strings[::-1], str(action.metavar), action.dest]
                known = (SPECIFIC.get((name, word)) or SHARED.get(word) for word in words)
                action.help = next((text for text in known if text), None)


def _pages(
    parser: argparse.ArgumentParser, path: tuple[str, ...], about: str
) -> Iterator[tuple[tuple[str, ...], argparse.ArgumentParser, str]]:
    if path:
        yield path, parser, about
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            texts = {choice.dest: choice.help or "" for choice in action._choices_actions}
            for name, below in action.choices.items():
                yield from _pages(below, (*path, name), texts.get(name, ""))
