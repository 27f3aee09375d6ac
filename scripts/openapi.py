"""Write the interface's description to docs/reference/openapi.json, or check that it is the one of today."""

import json
import sys
import tempfile
from pathlib import Path

from kinetrum.service.app import make_app

TARGET = Path(__file__).parent.parent / "docs" / "reference" / "openapi.json"


def main() -> int:
    """Return an exit status."""
    with tempfile.TemporaryDirectory() as folder:
        text = json.dumps(make_app(Path(folder)).openapi(), indent=1, ensure_ascii=False) + "\n"
    if "--check" in sys.argv:
        if TARGET.read_text(encoding="utf-8") != text:
            print("docs/reference/openapi.json is not today's; run 'make openapi' and commit what it writes.")
            return 1
        return 0
    TARGET.parent.mkdir(parents=True, exist_ok=True)
    TARGET.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
