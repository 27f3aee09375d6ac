"""Results to be seen over HTTP: what runs kept, items, small pictures from hostile files, rows of tables."""

from __future__ import annotations

import base64
import gzip
import io
import json
from typing import Any

import httpx
import pytest
from PIL import Image

from kinetrum.core.base import errors
from tests.service.data.test_files_api import keep, sha
from tests.support.world import Project, new_id

TABLE = b"row,truth,prediction,score\na,0,0,0.1\nb,1,0,0.4\nc,1,1,0.9\n"
LATER = b"row,truth,prediction,score\na,0,1,0.7\nb,1,1,0.8\nc,1,1,0.9\n"


def png(colour: tuple[int, int, int], size: tuple[int, int] = (40, 20)) -> bytes:
    raw = io.BytesIO()
    Image.new("RGB", size, colour).save(raw, "PNG")
    return raw.getvalue()


def generate(
    project: Project, begun: dict[str, Any], name: str, kind: str, files: dict[str, bytes], step: int | None = None
) -> dict[str, Any]:
    """Send files and record them as what a run kept at a step."""
    service = project.service("contributor")
    for content in files.values():
        service.call(
            "PUT",
            project.path(f"blobs/{sha(content)}"),
            content=content,
            headers={"Content-Type": "application/octet-stream"},
        )
    listed = [{"path": path, "size": len(content), "sha256": sha(content)} for path, content in files.items()]
    body = {"id": new_id(), "at": 1, "name": name, "kind": kind, "files": listed, "step": step}
    found: dict[str, Any] = service.call("POST", project.run_path(begun, "generated"), json=body)
    return found


def test_what_runs_kept_by_name_and_step(project: Project) -> None:
    first, second = project.begin(), project.begin()
    for step in (1, 2):
        generate(project, first, "maps", "image", {"m.png": png((step, 0, 0))}, step)
    generate(project, second, "maps", "image", {"m.png": png((9, 0, 0))}, 2)
    generate(project, second, "weights", "model", {"w.bin": b"w"})
    kept = project.service("viewer").get(project.path("kept"), run=[second["reference"], first["reference"]])
    assert kept["plots"] == []
    (maps,) = kept["media"]
    assert (maps["name"], maps["kind"]) == ("maps", "image")
    assert [(step["run"], step["step"], step["version"]) for step in maps["steps"]] == [
        (second["reference"], 2, 3),
        (first["reference"], 1, 1),
        (first["reference"], 2, 2),
    ]


def test_a_name_that_began_as_something_else_is_seen_too(project: Project) -> None:
    keep(project, "stations", {"a.bin": b"1"})
    begun = project.begin()
    generate(project, begun, "stations", "table", {"t.csv": TABLE})
    (found,) = project.service().get(project.path("kept"), run=[begun["reference"]])["media"]
    assert (found["name"], found["kind"]) == ("stations", "table")


def test_items_with_captions_boxes_and_masks(project: Project) -> None:
    said = {
        "format": 1,
        "items": [
            {
                "file": "b.png",
                "caption": "the coldest",
                "boxes": [{"x": 1, "y": 2, "width": 3, "height": 4, "label": "frost"}],
                "masks": [{"name": "truth", "file": "b.mask.png", "classes": {"1": "frost"}}],
            }
        ],
    }
    files = {
        "a.png": png((1, 1, 1)),
        "b.png": png((2, 2, 2)),
        "b.mask.png": png((0, 0, 0)),
        "items.json": json.dumps(said).encode(),
    }
    keep(project, "pictures", files)
    found = project.service("viewer").get(project.path("artifacts/pictures/versions/1/items"))
    assert [item["file"] for item in found["items"]] == ["b.png", "a.png"]
    first = found["items"][0]
    assert (first["caption"], first["type"], first["kind"]) == ("the coldest", "image/png", "image")
    assert first["boxes"] == [{"x": 1, "y": 2, "width": 3, "height": 4, "label": "frost", "score": None}]
    assert first["masks"] == [{"name": "truth", "file": "b.mask.png", "classes": {"1": "frost"}}]
    keep(project, "pictures", {"a.png": png((1, 1, 1)), "items.json": b'{"format": 1, "items": [{"file": 3}]}'})
    broken = project.service().get(project.path("artifacts/pictures/versions/2/items"))
    assert [item["file"] for item in broken["items"]] == ["a.png"]
    assert "items[0] is an object that names its file" in broken["note"]


def raw_get(project: Project, where: str, **params: Any) -> httpx.Response:
    headers = {"Authorization": f"Bearer {project.tokens['viewer']}"}
    return httpx.get(f"{project.instance.url}/api/v1{project.path(where)}", params=params, headers=headers, timeout=30)


def test_small_pictures_are_made_once_and_go_with_their_image(project: Project) -> None:
    images = {f"{at:02d}.png": png((at, 20, 30), (1_200, 400)) for at in range(5)}
    keep(project, "many", images)
    for path in images:
        answer = raw_get(project, "artifacts/many/versions/1/thumbnail", path=path)
        assert (answer.status_code, answer.headers["content-type"]) == (200, "image/webp"), answer.text
        assert Image.open(io.BytesIO(answer.content)).size == (320, 107)
        assert "sandbox" in answer.headers["content-security-policy"]
    folder = project.instance.home.folder / "store" / "thumbnails"
    made = {path.stem for path in folder.rglob("*.webp")}
    assert {sha(content) for content in images.values()} <= made
    service = project.service("maintainer")
    service.call("POST", project.path("bin"), json={"things": ["many@1"]})
    service.call("POST", project.path("purges"), json={"things": ["many@1"], "only_tell": False})
    assert not {sha(content) for content in images.values()} & {path.stem for path in folder.rglob("*.webp")}


@pytest.mark.parametrize(
    ("path", "content"),
    [("a.png", b"<svg onload=alert(1)>"), ("b.jpg", b"\xff\xd8\xff" + bytes(90)), ("c.png", b""), ("d.gif", b"GIF89a")],
)
def test_what_is_no_image_is_told(project: Project, path: str, content: bytes) -> None:
    keep(project, "hostile", {path: content, "good.png": png((1, 2, 3))})
    answer = raw_get(project, "artifacts/hostile/versions/1/thumbnail", path=path)
    assert (answer.status_code, answer.json()["detail"]) == (422, f"{path} is not an image that can be read.")
    assert raw_get(project, "artifacts/hostile/versions/1/thumbnail", path="good.png").status_code == 200
    nothing = raw_get(project, "artifacts/hostile/versions/1/thumbnail", path="x.svg")
    assert nothing.status_code == 404


def test_only_what_browsers_show_safely_is_named(project: Project) -> None:
    contents = {
        "a.svg": b"<svg/>",
        "a.html": b"<script>1</script>",
        "a.mp4": b"no video",
        "a.wav": b"RIFF",
        "a.png": png((1, 1, 1)),
    }
    keep(project, "forms", contents)
    types = {path: raw_get(project, f"artifacts/forms/versions/1/files/{path}", show="true") for path in contents}
    assert {path: answer.headers["content-type"] for path, answer in types.items()} == {
        "a.svg": "application/octet-stream",
        "a.html": "application/octet-stream",
        "a.mp4": "video/mp4",
        "a.wav": "audio/wav",
        "a.png": "image/png",
    }
    assert all("sandbox" in answer.headers["content-security-policy"] for answer in types.values())
    assert all(answer.headers["x-content-type-options"] == "nosniff" for answer in types.values())


def test_rows_of_a_table(project: Project) -> None:
    keep(project, "guesses", {"p.csv.gz": gzip.compress(TABLE, mtime=0)})
    service = project.service("viewer")
    page = service.get(project.path("rows"), of="guesses@1", wrong=True)
    assert (page["rows"], page["total"], page["of"], page["wrong"]) == ([["b", 1, 0, 0.4]], 1, 3, 1)
    assert (page["table"], page["path"], page["judged"]) == ("guesses@1", "p.csv.gz", True)
    page = service.get(project.path("rows"), of="guesses@latest:p.csv.gz", where=["score >= 0.4"], sort="score:desc")
    assert [row[0] for row in page["rows"]] == ["c", "b"]


def test_rows_of_two_versions(project: Project) -> None:
    for content in (TABLE, LATER):
        keep(project, "guesses", {"p.csv": content})
    page = project.service("viewer").get(
        project.path("rows/joined"), left="guesses@1", right="guesses@2", outcome=["newly wrong"]
    )
    assert page["counts"] == {"newly wrong": 1, "newly right": 1, "both right": 1}
    assert (page["key"], page["total"], page["rows"][0][:2]) == ("row", 1, ["a", "newly wrong"])


@pytest.mark.parametrize(
    ("asked", "error", "said"),
    [
        ({"of": "guesses@1", "where": ["scor > 1"]}, errors.InvalidInput, "Unknown column 'scor'"),
        ({"of": "guesses@7"}, errors.NotFound, "no version guesses@7"),
        ({"of": "guesses"}, errors.InvalidInput, "names no table"),
        ({"of": "guesses@1:none.csv"}, errors.NotFound, "no file 'none.csv'"),
        ({"of": "two@1"}, errors.InvalidInput, "2 tables; name one"),
        ({"of": "bad@1"}, errors.InvalidInput, "cannot be read"),
        ({"of": "bomb@1"}, errors.TooLarge, "MiB unpacked"),
    ],
)
def test_rows_that_cannot_be_read_say_why(
    project: Project, asked: dict[str, Any], error: type[Exception], said: str
) -> None:
    keep(project, "guesses", {"p.csv": TABLE})
    keep(project, "two", {"a.csv": TABLE, "b.csv": LATER})
    keep(project, "bad", {"a.parquet": b"PAR1 no PAR1"})
    # 600 MB of nothing in 600 kB.
    member = gzip.compress(b"a\n" + bytes(60_000_000), 9)
    keep(project, "bomb", {"a.csv.gz": member * 10})
    with pytest.raises(error, match=said):
        project.service("viewer").get(project.path("rows"), **asked)


def test_a_plot_is_drawn_otherwise_for_once(project: Project) -> None:
    begun = project.begin()
    body = {
        "id": new_id(),
        "at": 1,
        "name": "lows",
        "columns": {"day": ["mon", "tue"], "a": [1, None], "b": [3, 4]},
        "view": {"x": "day", "y": ["a"], "mark": "bars"},
    }
    project.service("contributor").call("POST", project.run_path(begun, "plots"), json=body)
    get = project.service("viewer").get
    asked = {"run": [begun["reference"]], "name": "lows", "columns": False}
    page = get(project.path("plots"), **asked)
    assert (page["places"], page["series"][0]["x"], page["plots"][0]["columns"]) == (["mon", "tue"], ["mon"], {})
    page = get(project.path("plots"), **asked, view=json.dumps({"y": ["b"], "mark": "points"}))
    assert page["series"] == [{"name": "b", "of": 0, "x": ["mon", "tue"], "y": [3.0, 4.0]}]
    assert get(project.path("plots"), **asked)["plots"][0]["view"]["y"] == ["a"]
    for wrong in ("{", "[]", '{"y": ["none"]}', '{"zz": 1}'):
        with pytest.raises(errors.InvalidInput, match=r"view|column"):
            get(project.path("plots"), **asked, view=wrong)


def test_digests_stand_with_the_bytes(project: Project) -> None:
    content = png((5, 5, 5))
    keep(project, "forms", {"a.png": content})
    answer = raw_get(project, "artifacts/forms/versions/1/files/a.png", show="true")
    assert base64.b64encode(bytes.fromhex(sha(content))).decode() in answer.headers["repr-digest"]
