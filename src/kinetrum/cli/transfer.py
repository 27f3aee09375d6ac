"""`export`, `import`: archives between instances."""

from __future__ import annotations

import argparse
from typing import Any

from kinetrum.cli import output
from kinetrum.cli.arguments import add_common


def add_commands(commands: Any) -> None:
    """Add this group to the parser."""
    export = commands.add_parser("export", help="a run, an experiment or an artifact as one archive (RO-Crate)")
    export.add_argument("ref", metavar="REF", help="frost-alarm/42, experiment:frost-alarm, artifact:nights, nights@3")
    export.add_argument("-o", "--output", required=True, metavar="FILE")
    export.add_argument("--without-files", action="store_true", help="leave out the bytes of stored files")
    export.add_argument("--license", default="", help="what others may do with it, for the archive's description")
    add_common(export, _export)
    import_ = commands.add_parser("import", help="take an archive in, with its identities and times; twice is fine")
    import_.add_argument("path", metavar="FILE")
    add_common(import_, _import)


def _export(given: argparse.Namespace) -> int:
    from kinetrum.client.moving import export

    size = export(
        given.ref, given.output, with_files=not given.without_files, license_text=given.license, project=given.project
    )
    if given.json:
        output.print_json({"path": given.output, "size_bytes": size})
    else:
        print(f"{given.output}: {output.size_text(size)}.")
    return 0


def _import(given: argparse.Namespace) -> int:
    from kinetrum.client.moving import import_

    found = import_(given.path, project=given.project)
    if given.json:
        output.print_json(found)
        return 0
    runs, versions = len(found["runs"]), len(found["versions"])
    known = f"; {len(found['known'])} were here already" if found["known"] else ""
    print(f"{runs} run{'' if runs == 1 else 's'} and {versions} version{'' if versions == 1 else 's'} imported from "
          f"{output.clean(found['source'])}{known}.")  # fmt: skip
    for remark in found["remarks"]:
        output.note(output.clean(remark))
    return 0
