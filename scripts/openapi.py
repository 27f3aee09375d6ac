"""Write the interface's description, and from it the types of answers that the client reads; or check that both are of today."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from kinetrum.service.app import make_app

ROOT = Path(__file__).parent.parent
TARGET = ROOT / "docs" / "reference" / "openapi.json"
# Types alone, of which nothing is there when a program runs: a stub without a module.
TYPES = ROOT / "src" / "kinetrum" / "client" / "transport" / "answers.pyi"


def answer_types(description: Path, target: Path) -> str:
    """Return the types of all that the interface takes and answers, as typed dictionaries."""
    generator = [sys.executable, "-m", "datamodel_code_generator", "--input-file-type", "openapi"]
    options = [
        "--output-model-type",
        "typing.TypedDict",
        "--target-python-version",
        "3.11",
        "--enum-field-as-literal",
        "all",
    ]
    options += [
        "--use-standard-collections",
        "--use-union-operator",
        "--no-use-closed-typed-dict",
        "--disable-timestamp",
    ]
    options += [
        "--formatters",
        "builtin",
        "--custom-file-header",
        '"""Written by make openapi; see scripts/openapi.py."""',
    ]
    subprocess.run([*generator, "--input", description, "--output", target, *options], check=True)
    return target.read_text(encoding="utf-8")


def main() -> int:
    """Return an exit status."""
    with tempfile.TemporaryDirectory() as folder:
        text = json.dumps(make_app(Path(folder)).openapi(), indent=1, ensure_ascii=False) + "\n"
        description = Path(folder, "openapi.json")
        description.write_text(text, encoding="utf-8")
        types = answer_types(description, Path(folder, "answers.pyi"))
    written = {TARGET: text, TYPES: types}
    if "--check" in sys.argv:
        for path, wanted in written.items():
            if path.read_text(encoding="utf-8") != wanted:
                print(f"{path.relative_to(ROOT)} is not today's; run 'make openapi' and commit what it writes.")
                return 1
        return 0
    for path, wanted in written.items():
        path.write_text(wanted, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
