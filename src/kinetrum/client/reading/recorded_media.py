"""Images, sounds, videos, texts and tables that a run kept: by name, step by step."""

from __future__ import annotations

import html
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kinetrum.client.display.media_html import first_drawn, media_as_html
from kinetrum.client.transport.http import path_of
from kinetrum.client.transport.session import Session
from kinetrum.core.base.errors import InvalidInput, NotFound

if TYPE_CHECKING:
    from kinetrum.client.data.artifact_versions import StoredVersion
    from kinetrum.client.data.rows import Rows
    from kinetrum.client.transport import answers


_SHOWN = 4


@dataclass(frozen=True, repr=False)
class KeptMedia:
    """What a run kept under a name at a step: a version of an artifact of a kind of media.

    `items` are mappings with file, kind, type, size, sha256, caption, boxes and masks; `note` says what is left out.
    """

    _session: Session
    run: str
    name: str
    kind: str
    step: int | None
    reference: str
    items: Sequence[answers.ShownItem]
    note: str

    def __repr__(self) -> str:
        step = "" if self.step is None else f", step {self.step}"
        count = f"{len(self.items)} {'item' if len(self.items) == 1 else 'items'}"
        return f"<{self.kind} {self.name} of {self.run}{step}: {count}>"

    def _repr_html_(self) -> str:
        return media_as_html(self)

    def read(self, file: str | None = None) -> bytes:
        """Return the bytes of an item's file or of a mask, verified; without `file` those of the only item."""
        import tempfile

        path = file if file is not None else self._only()
        with tempfile.TemporaryDirectory() as folder:
            self._version().download(Path(folder))
            path_inside = Path(folder) / path
            if not path_inside.is_file():
                raise NotFound(f"{self.reference} has no file {path!r}.", field="file")
            return path_inside.read_bytes()

    def text(self) -> str:
        """Return the text."""
        return self.read().decode("utf-8", "replace")

    def rows(self, **options: Any) -> Rows:
        """Read the table's rows; see `kinetrum.rows`."""
        from kinetrum.client.data.rows import rows

        return rows(f"{self.reference}:{self._only()}", project=self._session.project, **options)

    def download(self, to: str | Path) -> Path:
        """Save all files into a folder, verified."""
        self._version().download(Path(to))
        return Path(to)

    def _only(self) -> str:
        if len(self.items) != 1:
            names = ", ".join(item["file"] for item in self.items[:8])
            raise InvalidInput(f"{self.reference} has {len(self.items)} items; name one: {names}", field="file")
        return str(self.items[0]["file"])

    def _version(self) -> StoredVersion:
        from kinetrum.client.data.artifact_versions import StoredVersion

        name, _, number = self.reference.rpartition("@")
        return StoredVersion.read(self._session, self._session.project, name, number)


class RecordedMedia(Mapping[str, KeptMedia]):
    """The images, sounds, videos, texts and tables of a run by name, each at its last step; `at` reads another."""

    def __init__(self, session: Session, run: str) -> None:
        self._session, self._run = session, run

    def listed(self) -> list[answers.KeptName]:
        """Return name, kind and steps (each with its version) of everything that the run kept to be seen."""
        path = path_of("projects", self._session.project, "kept")
        answer: list[answers.KeptName] = self._session.service.get(path, run=[self._run])["media"]
        return answer

    def __iter__(self) -> Iterator[str]:
        return iter(dict.fromkeys(row["name"] for row in self.listed()))

    def __len__(self) -> int:
        return len(list(iter(self)))

    def __getitem__(self, name: str) -> KeptMedia:
        try:
            return self.at(name)
        except NotFound as error:
            raise KeyError(str(error)) from None

    def __repr__(self) -> str:
        return f"<Media of {self._run}: {', '.join(self) or 'none'}>"

    def _repr_html_(self) -> str:
        return first_drawn(list(self), lambda name: self[name]._repr_html_(), _SHOWN) or html.escape(repr(self))

    def steps(self, name: str) -> list[int]:
        """Return the steps at which something was kept under a name, ascending."""
        return sorted(step["step"] for step in self._steps(name) if step["step"] is not None)

    def at(self, name: str, step: int | None = None) -> KeptMedia:
        """Return what was kept at a step (the last one without); raises NotFound where there is nothing."""
        steps = self._steps(name)
        if not steps:
            there = ", ".join(list(self)[:12])
            raise NotFound(
                f"{self._run} kept nothing named {name!r}{f'; there are {there}' if there else ''}.", field="name"
            )
        # What was kept without a step stands after all steps; of a step kept twice the later one is shown.
        chosen = [item for item in steps if step is None or item["step"] == step]
        if not chosen:
            raise NotFound(f"{self._run} kept {name!r} not at step {step}.", field="step")
        last = max(enumerate(chosen), key=lambda pair: (pair[1]["step"] is None, pair[1]["step"] or 0, pair[0]))[1]
        where = path_of("projects", self._session.project, "artifacts", name, "versions", str(last["version"]), "items")
        data = self._session.service.get(where)
        return KeptMedia(
            self._session, self._run, name, data["kind"], last["step"], data["reference"], data["items"], data["note"]
        )

    def _steps(self, name: str) -> list[answers.KeptStep]:
        return [step for row in self.listed() if row["name"] == name for step in row["steps"]]
