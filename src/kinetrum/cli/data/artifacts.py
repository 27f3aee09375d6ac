"""`artifacts`, `keep`, `fetch`, `diff`, `uses`, `check`, `lineage`: files and data."""

from __future__ import annotations

import argparse
import sys
import warnings
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.output import moment, paint, size_text
from kinetrum.cli.parser import Commands
from kinetrum.cli.terminal import beneath
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.data.artifact_versions import StoredVersion
    from kinetrum.client.registry.deployment import Fetched
    from kinetrum.client.transport import answers
from kinetrum.cli.data.differences import show_difference
from kinetrum.cli.data.lineage import show_lineage

_STATE_TONES = {"changed": "bad", "gone": "bad", "not reached": "bad", "same": "good"}


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    artifacts = commands.add_parser("artifacts", help="artifacts of the project, or the versions of one")
    artifacts.add_argument("name", nargs="?", metavar="NAME")
    artifacts.add_argument(
        "--sort", metavar="KEY[:asc|:desc]", help="with NAME: checkpoints by what their runs measured at their step"
    )
    add_common(artifacts, _artifacts)
    keep = commands.add_parser("keep", help="store a file or folder without a run")
    keep.add_argument("path", metavar="PATH")
    keep.add_argument("--name", help="the artifact's name; by default made of the path's")
    keep.add_argument("--kind", default="file", help="data, model, image, table, text, file or a word of your own")
    keep.add_argument("--about", action="append", default=[], metavar="KEY=VALUE", help="metadata of the version")
    keep.add_argument("--label", action="append", default=[], metavar="KEY=TEXT")
    keep.add_argument("--description", help="what the artifact is")
    add_common(keep, _keep)
    fetch = commands.add_parser("fetch", help="download what a reference names, verified")
    fetch.add_argument(
        "ref", nargs="?", metavar="REF", help="frost-alarm@production, nights@3, frost-alarm/42:frost-net"
    )
    fetch.add_argument("--locked", metavar="FILE", help="fetch exactly the versions of a file that kinetrum lock wrote")
    fetch.add_argument(
        "-o",
        "--output",
        default=".",
        metavar="DIR",
        help="of a model's version a folder for it alone: a later fetch takes its place in one step",
    )
    fetch.add_argument("--keep", type=int, default=0, metavar="N", help="so many earlier ones stay, as DIR.earlier-1 …")
    fetch.add_argument("--replace", action="store_true", help="write the files in place; what else is in DIR stays")
    fetch.add_argument(
        "--strict", action="store_true", help="fetch nothing, exit status 1, if the version is rejected or retired"
    )
    add_common(fetch, _fetch)
    diff = commands.add_parser("diff", help="two versions side by side, file by file; or two files, by what is in them")
    diff.add_argument("left", metavar="NAME@A[:PATH]")
    diff.add_argument("right", metavar="NAME@B[:PATH]")
    diff.add_argument("--all", action="store_true", help="equal files too")
    diff.add_argument("--only", choices=["left", "right", "changed", "moved", "same"], help="only one kind")
    diff.add_argument("--limit", type=int, default=200)
    add_common(diff, show_difference)
    uses = commands.add_parser("uses", help="who used or generated exactly this: a version, a file, a digest, a path")
    uses.add_argument("what", metavar="WHAT", help="nights@3, nights@3:2024/station-09.csv, sha256:…, data/nights")
    add_common(uses, _uses)
    check = commands.add_parser("check", help="what became of files that were fingerprinted where they lie")
    check.add_argument("ref", metavar="NAME@N")
    check.add_argument("--yes", action="store_true", help="read all the addresses without being asked")
    check.add_argument("--quick", action="store_true", help="compare size and last change only, no bytes")
    add_common(check, _check)
    lineage = commands.add_parser("lineage", help="what something came from and what came of it")
    lineage.add_argument("ref", metavar="REF", help="a run, a version, a file in one, a model's version, sha256:…")
    way = lineage.add_mutually_exclusive_group()
    way.add_argument("--back", dest="way", action="store_const", const="back", help="only what it came from")
    way.add_argument("--forth", dest="way", action="store_const", const="forth", help="only what came of it")
    lineage.add_argument("--prov", action="store_true", help="as W3C PROV-JSON")
    lineage.add_argument("-o", "--output", metavar="FILE", help="with --prov: write it there")
    add_common(lineage, show_lineage)


def progress_of(title: str, enough: int = 64 * 1024 * 1024) -> Callable[[int], Callable[[int], None]]:
    """Return what shows a bar on a terminal for work on many bytes, and nothing for little."""

    def begin(total: int) -> Callable[[int], None]:
        if total < enough or not sys.stderr.isatty():
            return lambda _: None
        from tqdm import tqdm

        bar = tqdm(total=total, desc=title, unit="B", unit_scale=True, leave=False, file=beneath(sys.stderr))

        def tick(count: int) -> None:
            bar.update(count)

        return tick

    return begin


def _state(version: answers.ArtifactVersion) -> str:
    if version["purged_at"]:
        return "purged"
    if version["binned_at"]:
        return "in the bin"
    marks = ["by reference" if version["by_reference"] else "stored"]
    marks += ["damaged"] if version["damaged"] else []
    marks += ["imported"] if version["imported_from"] else []
    return ", ".join(marks)


def _artifacts(arguments: argparse.Namespace) -> int:
    from kinetrum.client.transport.http import path_of
    from kinetrum.client.transport.session import open_session

    session = open_session(arguments.project)
    path = path_of("projects", session.project, "artifacts")
    answer = session.service.get(path + (path_of(arguments.name) if arguments.name else ""))
    if arguments.name and arguments.sort:
        answer["versions"] = sorted_checkpoints(answer, arguments.sort)
    if arguments.json:
        output.print_json(answer)
        return 0
    rows = answer["versions"] if arguments.name else answer
    if arguments.name:
        _print_artifact(answer)
    elif arguments.sort:
        raise InvalidInput("Checkpoints of one artifact are sorted: kinetrum artifacts NAME --sort KEY.", field="sort")
    if not rows:
        print("There are no artifacts yet: kinetrum keep PATH --name NAME stores one.")
        return 0
    if arguments.name and (answer["checkpoints"] or arguments.sort):
        return _print_checkpoints(answer, arguments.sort)
    output.print_table(
        ["version", "kind", "", "files", "size", "made", "digest"],
        [
            [
                row["reference"],
                row["kind"],
                _state(row),
                f"{row['file_count']:,}",
                size_text(row["size_bytes"]),
                moment(row["created_at"]),
                row["digest"][:12],
            ]
            for row in rows
        ],
    )
    return 0


def sorted_checkpoints(artifact: answers.Artifact, sort: str) -> list[answers.ArtifactVersion]:
    """Return an artifact's versions by what was measured at their step: the best first, those without it last."""
    key, _, way = sort.partition(":") if sort.endswith((":asc", ":desc")) else (sort, "", "")
    measured = {one["number"]: one["values"].get(key) for one in artifact["checkpoints"]}
    known = sorted({name for one in artifact["checkpoints"] for name in one["values"]})
    if key not in known:
        there = f"their runs measured {', '.join(known[:8])}" if known else "none was made at a step of a run"
        raise InvalidInput(f"No checkpoint of {artifact['name']} has {key!r}; {there}.", field="sort")
    goal = next((one["direction"] for one in artifact["goals"] if one["key"] == key), None)
    ascending = way == "asc" or (not way and goal == "lower")
    numbers = {number: value for number, value in measured.items() if isinstance(value, int | float)}
    return sorted(
        artifact["versions"],
        key=lambda row: (
            row["number"] not in numbers,
            numbers.get(row["number"], 0.0) * (1 if ascending else -1),
            -row["number"],
        ),
    )


def _print_checkpoints(artifact: answers.Artifact, sort: str | None) -> int:
    """Print the versions of an artifact with the run and step that made each, and what was measured there."""
    made = {one["number"]: one for one in artifact["checkpoints"]}
    wanted = sort.removesuffix(":asc").removesuffix(":desc") if sort else None
    keys = [one["key"] for one in artifact["goals"]]
    keys += sorted({name for one in made.values() for name in one["values"]} - set(keys))
    keys = [
        key
        for key in dict.fromkeys([*([wanted] if wanted else []), *keys])
        if any(key in m["values"] for m in made.values())
    ]
    rows = []
    for row in artifact["versions"]:
        one = made.get(row["number"])
        values = one["values"] if one else {}
        about = ", ".join(f"{key}={value}" for key, value in row["about"].items())
        rows.append(
            [
                row["reference"],
                one["run"] if one else "",
                str(one["step"]) if one else "",
                *(output.number(values[key]) if key in values else "–" for key in keys[:6]),
                size_text(row["size_bytes"]),
                _state(row),
                output.short(output.clean(about), 40),
            ]
        )
    output.print_table(["version", "run", "step", *keys[:6], "size", "", "metadata"], rows)
    return 0


def _print_artifact(artifact: answers.Artifact) -> None:
    labels = "  ".join(f"{output.clean(key)}={output.clean(text)}" for key, text in artifact["labels"].items())
    if artifact["description"]:
        print(output.clean(artifact["description"]))
    if labels:
        print(labels)


def _pairs(texts: list[str], what: str) -> dict[str, str]:
    pairs = {}
    for text in texts:
        key, sign, value = text.partition("=")
        if not sign or not key:
            raise InvalidInput(f"{text!r} is not of the form KEY=VALUE.", field=what)
        pairs[key] = value
    return pairs


def about_of(texts: list[str]) -> dict[str, object]:
    """Read metadata given as KEY=VALUE; a value is JSON where it is JSON, else text."""
    from kinetrum.core.base.values import read_typed

    return {key: read_typed(text) for key, text in _pairs(texts, "about").items()}


def _keep(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.artifact_versions import describe_artifact, keep_files
    from kinetrum.client.data.copies import find_files
    from kinetrum.client.recording.inputs_outputs import artifact_name, described
    from kinetrum.client.transport.session import open_session

    name = artifact_name(arguments.name, arguments.path)
    description = described(arguments.kind, about=about_of(arguments.about), labels=_pairs(arguments.label, "label"))
    session = open_session(arguments.project)
    reference, sent = keep_files(session, find_files(arguments.path), name, description, progress_of(name))
    if arguments.description is not None:
        describe_artifact(session, name, arguments.description, {})
    if arguments.json:
        output.print_json({"reference": reference, "sent_files": sent.files, "sent_bytes": sent.size_bytes})
        return 0
    print(reference)
    files = f"{sent.files:,} file{'' if sent.files == 1 else 's'}"
    output.note(f"{files}, {size_text(sent.size_bytes)} sent; the rest was there." if sent.files else "All was there.")
    return 0


def _fetch(arguments: argparse.Namespace) -> int:
    from kinetrum.client.reading.run_table import fetch
    from kinetrum.client.registry.registration import fetch_locked

    if (arguments.ref is None) == (arguments.locked is None):
        raise InvalidInput("Fetch what? Name a reference, or a lock file with --locked.", field="ref")
    how = {"replace": arguments.replace, "keep": arguments.keep, "strict": arguments.strict}
    with warnings.catch_warnings():
        # What is wrong with a version is told below, with everything else.
        warnings.simplefilter("ignore")
        if arguments.locked:
            fetched = fetch_locked(arguments.locked, arguments.output, **how)
        else:
            fetched = [
                fetch(
                    arguments.ref,
                    arguments.output,
                    **how,
                    project=arguments.project,
                    progress=progress_of(arguments.ref),
                )
            ]
    if arguments.json:
        files = [one.to_json() for one in fetched]
        output.print_json(files if arguments.locked else files[0])
    for one in fetched:
        if not arguments.json:
            _print_fetched(one)
        if one.warning:
            output.note(paint(f"Warning: {one.warning}.", "bad"))
    return 0


def _print_fetched(fetched: Fetched) -> None:
    for path in fetched.paths[:50]:
        print(path)
    if len(fetched) > 50:
        print(paint(f"{len(fetched) - 50:,} more", "quiet"))
    count = f"{len(fetched):,} file{'' if len(fetched) == 1 else 's'}"
    stage = f", on {fetched.stage}" if fetched.stage else ""
    digest = f" {fetched.digest[:19]}" if fetched.digest else ""
    output.note(f"{fetched.reference}{digest}{stage}: {count} in {fetched.folder}, verified.")


def _uses(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.artifact_versions import uses

    answer = uses(arguments.what, project=arguments.project)
    if arguments.json:
        output.print_json(answer)
        return 0
    runs = {use["run"]["run"] for use in answer["uses"]}
    versions = [version["reference"] for version in answer["versions"]]
    what = "This content" if answer["exact"] else "This file"
    verb = "is" if answer["exact"] else "stands in"
    count = f"{len(runs):,} run{'' if len(runs) == 1 else 's'}"
    print(f"{paint(what, 'strong')} {verb} {', '.join(versions[:8])}{' …' if len(versions) > 8 else ''}; {count}.")
    print(paint(answer["what"], "quiet"))
    if answer["uses"]:
        rows = [
            [
                use["run"]["run"],
                output.clean(use["run"]["name"] or ""),
                use["run"]["relation"],
                use["run"]["role"] or use["run"]["activity"] or "",
                use["version"],
                use["run"]["author"],
                moment(use["run"]["at"]),
            ]
            for use in answer["uses"]
        ]
        output.print_table(["run", "name", "", "as", "version", "by", "when"], rows)
    return 0


def _may_read(version: StoredVersion) -> bool:
    """Show where a check would read, which is what somebody recorded, and ask; raises where nobody can be asked."""
    if not version.by_reference:
        # It is refused, whatever the answer.
        return True
    output.note(f"{version.reference} was recorded at these addresses, which are read from this machine:")
    counts = Counter(_place(address) for address in version.addresses)
    for place, count in sorted(counts.items())[:20]:
        output.note(f"  {place}  {count:,} file{'' if count == 1 else 's'}")
    if len(counts) > 20:
        output.note(f"  and {len(counts) - 20:,} more places")
    if not sys.stdin.isatty():
        raise InvalidInput("Nobody can be asked here; say --yes to read them.", field="yes")
    return output.confirmed("Read them?")


def _place(address: str) -> str:
    """Return the server and bucket, or the folder, that an address is at."""
    if "://" in address:
        scheme, _, rest = address.partition("://")
        return f"{scheme}://{rest.partition('/')[0]}"
    return str(Path(address).parent)


def _check(arguments: argparse.Namespace) -> int:
    from kinetrum.client.data.artifact_versions import StoredVersion
    from kinetrum.client.reading.run_table import open as open_ref

    version = open_ref(arguments.ref, project=arguments.project)
    if not isinstance(version, StoredVersion):
        raise InvalidInput(f"{arguments.ref} is not an artifact version; write NAME@NUMBER.", field="ref")
    if not arguments.yes and not _may_read(version):
        return 1
    tick = progress_of(arguments.ref)(version.data["size_bytes"])
    outcome = version.check(arguments.quick, tick)
    wrong = [file for file in outcome if file.state != "same"]
    if arguments.json:
        output.print_json([vars(file) for file in outcome])
        return 1 if wrong else 0
    how = "by size and last change only" if arguments.quick else "every byte compared"
    counts = ", ".join(
        f"{sum(file.state == state for file in outcome):,} {state}"
        for state in _STATE_TONES
        if any(file.state == state for file in outcome)
    )
    print(f"{paint(version.reference, 'strong')}: {counts} ({how}).")
    for file in wrong:
        detail = f"  {file.detail}" if file.detail else ""
        print(f"{paint(f'{file.state:11}', _STATE_TONES[file.state])}  {output.clean(file.address)}{detail}")
    return 1 if wrong else 0
