"""`export`, `import`: archives between instances."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common
from kinetrum.cli.parser import Commands
from kinetrum.core.base.errors import InvalidInput

if TYPE_CHECKING:
    from kinetrum.client.transport import answers


def add_commands(commands: Commands) -> None:
    """Add this group to the parser."""
    export = commands.add_parser(
        "export", help="a run, an experiment, an artifact, a project or everything as archives (RO-Crate)"
    )
    export.add_argument(
        "ref",
        metavar="REF",
        nargs="?",
        help="frost-alarm/42, experiment:frost-alarm, artifact:nights, nights@3; without it the whole project",
    )
    export.add_argument(
        "--everything",
        action="store_true",
        help="every project that you may see, each as an archive in the folder of -o",
    )
    export.add_argument(
        "-o", "--output", required=True, metavar="FILE", help="the archive to write; with --everything a folder"
    )
    export.add_argument("--without-files", action="store_true", help="leave out the bytes of stored files")
    export.add_argument("--license", default="", help="what others may do with it, for the archive's description")
    add_common(export, _export)
    import_ = commands.add_parser("import", help="take archives in, with their identities and times; twice is fine")
    import_.add_argument("path", metavar="FILE", help="an archive, or the folder of export --everything")
    import_.add_argument(
        "--same-people",
        action="store_true",
        help="for administrators: its people are the accounts of the same names here",
    )
    add_common(import_, _import)


def _export(arguments: argparse.Namespace) -> int:
    from kinetrum.client.archives.transfer import export, export_everything

    if arguments.everything:
        if arguments.ref or arguments.project:
            raise InvalidInput("--everything is every project; leave out the reference and --project.", field="ref")
        sizes = export_everything(
            arguments.output, with_files=not arguments.without_files, license_text=arguments.license
        )
    elif arguments.ref is None and arguments.project is None:
        raise InvalidInput(
            "Say what to export: a reference such as experiment:frost-alarm, --project NAME for a whole project, or "
            "--everything.",
            field="ref",
        )
    else:
        size = export(
            arguments.ref,
            arguments.output,
            with_files=not arguments.without_files,
            license_text=arguments.license,
            project=arguments.project,
        )
        if arguments.json:
            output.print_json({"path": arguments.output, "size_bytes": size})
        else:
            print(f"{arguments.output}: {output.size_text(size)}.")
        return 0
    if arguments.json:
        output.print_json(
            {
                name: {"path": str(Path(arguments.output) / f"{name}.zip"), "size_bytes": size}
                for name, size in sizes.items()
            }
        )
        return 0
    for name, size in sizes.items():
        print(f"{Path(arguments.output) / name}.zip: {output.size_text(size)}.")
    return 0


def _import(arguments: argparse.Namespace) -> int:
    from kinetrum.client.archives.transfer import import_, import_everything

    if not Path(arguments.path).is_dir():
        outcome = import_(arguments.path, project=arguments.project, same_people=arguments.same_people)
        if arguments.json:
            output.print_json(outcome)
        else:
            _tell(outcome, "")
        return 0
    if arguments.project:
        raise InvalidInput(
            "A folder's archives go to the projects of their names; leave out --project.", field="project"
        )
    done = import_everything(arguments.path, same_people=arguments.same_people)
    if arguments.json:
        output.print_json(done)
        return 0
    for name, outcome in done.items():
        _tell(outcome, f"{name}: ")
    return 0


def _tell(outcome: answers.Imported, project: str) -> None:
    counts = [
        _counted(len(outcome["runs"]), "run"),
        _counted(len(outcome["versions"]), "artifact version"),
        *([_counted(len(outcome["models"]), "model version")] if outcome["models"] else []),
        *([_counted(len(outcome["views"]), "view")] if outcome["views"] else []),
    ]
    brought = f"{', '.join(counts[:-1])} and {counts[-1]}"
    known = f"; {len(outcome['known'])} were here already" if outcome["known"] else ""
    print(f"{project}{brought} imported from {output.clean(outcome['source'])}{known}.")
    for remark in outcome["remarks"]:
        output.note(output.clean(remark))


def _counted(count: int, noun: str) -> str:
    return f"{count} {noun}{'' if count == 1 else 's'}"
