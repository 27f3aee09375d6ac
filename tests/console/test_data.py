"""Files and data in the console: kept by dropping, looked into, compared, traced, binned and purged."""

from __future__ import annotations

import contextlib
import os
import re
from pathlib import Path

import pytest
from playwright.sync_api import Error, Locator, Page, Route, expect

from tests.console.conftest import Watch
from tests.console.test_console import Visit, accessible, record
from tests.service.data.test_files_api import keep, sha
from tests.support.world import Project, new_id

FAULTY = b"day,evening_c\n1,5.3\n2,6.3\n"
RIGHT = b"day,evening_c\n1,3.5\n2,4.5\n"


def nights(project: Project) -> None:
    """Two versions: one station's readings corrected, one file moved; the first alone holds what only it has."""
    keep(
        project, "nights", {"2024/station-09.csv": FAULTY, "2024/station-10.csv": b"day\n1\n", "notes.md": b"# Nights"}
    )
    keep(project, "nights", {"2024/station-09.csv": RIGHT, "2024/station-10.csv": b"day\n1\n", "about.md": b"# Nights"})


def use(project: Project, reference: str, number: int = 1, role: str = "train") -> dict[str, str]:
    begun = record(project, number)
    body = {"id": new_id(), "at": 1, "artifact": reference, "role": role}
    project.service("contributor").call("POST", project.run_path(begun, "used"), json=body)
    return begun


def test_the_fault_in_the_data_is_found_by_comparing(visit: Visit, project: Project) -> None:
    nights(project)
    page = visit("/data")
    page.get_by_role("table", name="Artifacts").get_by_role("link", name="nights@2").click()
    page.get_by_role("button", name="Compare with nights@1").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(
        "nights@1 and nights@2 differ in 2 of 3 files: 1 changed, 1 moved."
    )
    table = page.get_by_role("table", name="Differences")
    expect(table.get_by_role("row", name=re.compile("≠ changed"))).to_be_visible()
    expect(table.get_by_role("row", name=re.compile("notes.md → moved about.md"))).to_be_visible()
    table.get_by_role("button", name="2024/station-09.csv").click()
    inside = page.get_by_role("region", name="What changed in 2024/station-09.csv")
    expect(inside).to_contain_text("evening_c by -1.8 in all 2 rows")
    expect(inside.get_by_role("row", name="evening_c 2 −1.8 −1.8 −1.8")).to_be_visible()
    assert "against=nights%401" in page.url
    accessible(page)
    page.get_by_role("button", name="= 1 same").click()
    expect(table.get_by_role("row")).to_have_count(2)
    page.go_back()
    page.go_back()
    expect(page.get_by_role("table", name="Files")).to_be_visible()


def test_files_are_looked_into(visit: Visit, project: Project) -> None:
    keep(
        project,
        "mixed",
        {
            "deep/table.csv": FAULTY,
            "page.html": b"<script>document.title = 'taken over'</script>",
            "read.md": b"# Frost\n\n**cold**",
            "bytes.bin": bytes(range(256)),
            "x.json": b'{"a": [1, 2]}',
        },
    )
    page = visit("/data/mixed")
    expect(page.get_by_role("heading", level=1)).to_contain_text("mixed@1 is stored here: 5 files")
    files = page.get_by_role("table", name="Files")
    files.get_by_role("button", name="deep/").click()
    files.get_by_role("button", name="table.csv").click()
    preview = page.get_by_role("region", name="Preview of deep/table.csv")
    expect(preview.get_by_role("columnheader", name="evening_c")).to_be_visible()
    preview.get_by_role("button", name="All rows: sort and filter").click()
    preview.get_by_role("button", name="evening_c").click()
    expect(preview.get_by_role("columnheader", name="evening_c ↑")).to_be_visible()
    accessible(page)
    page.get_by_role("navigation", name="Folder").get_by_role("button", name="mixed@1").click()
    files.get_by_role("button", name="page.html").click()
    expect(page.get_by_text("taken over")).to_be_visible()
    assert page.title() != "taken over"
    files.get_by_role("button", name="read.md").click()
    expect(page.get_by_role("heading", name="Frost")).to_be_visible()
    files.get_by_role("button", name="bytes.bin").click()
    expect(page.get_by_text("No form that is known here")).to_be_visible()
    page.get_by_label("Find files").fill("TABLE")
    expect(files.get_by_role("button", name="deep/table.csv")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Download all").click()
    assert download.value.suggested_filename == "mixed-1.zip"


def test_files_are_kept_by_choosing_them(visit: Visit, project: Project, tmp_path: Path) -> None:
    (tmp_path / "Frost Rules.json").write_text('{"limit": 3.5}')
    page = visit("/data", "contributor")
    page.get_by_label("Files to keep").set_input_files(tmp_path / "Frost Rules.json")
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("Name of the artifact")).to_have_value("frost-rules")
    dialog.get_by_label("Kind").select_option("text")
    dialog.get_by_role("button", name="Keep").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("frost-rules@1 is stored here: 1 file, 14 B")
    page.get_by_role("table", name="Files").get_by_role("button", name="Frost Rules.json").click()
    expect(page.get_by_text('"limit": 3.5')).to_be_visible()


def test_who_may_only_look_is_offered_no_place(visit: Visit, project: Project) -> None:
    nights(project)
    page = visit("/data", "viewer")
    expect(page.get_by_role("table", name="Artifacts")).to_be_visible()
    expect(page.get_by_role("region", name="Keep files")).to_have_count(0)


def test_files_are_kept_by_dropping_them(visit: Visit, project: Project) -> None:
    page = visit("/data", "contributor")
    place = page.get_by_role("region", name="Keep files")
    expect(place).to_be_visible()
    transfer = page.evaluate_handle(
        "() => { const t = new DataTransfer(); t.items.add(new File(['1,2'], 'nights.csv')); return t }"
    )
    place.dispatch_event("dragover", {"dataTransfer": transfer})
    place.dispatch_event("drop", {"dataTransfer": transfer})
    page.get_by_role("dialog").get_by_role("button", name="Keep").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("nights@1 is stored here: 1 file, 3 B")


@pytest.mark.soak
def test_large_files_go_in_pieces_and_are_taken_up_where_they_broke_off(
    visit: Visit, project: Project, watch: Watch, tmp_path: Path
) -> None:
    watch.breaks_allowed = True
    content = os.urandom(40_000_000)
    for name in ("weights.bin", "copy.bin"):
        (tmp_path / name).write_bytes(content)
    (tmp_path / "small.json").write_text("{}")
    page = visit("/data", "contributor")
    sent: list[str] = []

    def pass_or_break(route: Route) -> None:
        sent.append(route.request.method)
        if sent.count("PATCH") == 2 and route.request.method == "PATCH":
            route.abort("connectionreset")
        else:
            route.continue_()

    page.route(re.compile(r"/blobs/[0-9a-f]{64}$"), pass_or_break)
    keep_chosen(page, [tmp_path / name for name in ("weights.bin", "copy.bin", "small.json")], "net")
    expect(page.get_by_role("heading", level=1)).to_contain_text("net@1 is stored here: 3 files", timeout=30_000)
    # Three pieces, one of them twice; the same content under another name goes once.
    assert sorted(sent) == ["PATCH"] * 4 + ["PUT"]
    stored = project.instance.home.store / sha(content)[:2] / sha(content)
    assert stored.read_bytes() == content
    page.goto(f"/{project.name}/data")
    keep_chosen(page, [tmp_path / "weights.bin"], "again")
    expect(page.get_by_role("heading", level=1)).to_contain_text("again@1 is stored here: 1 file", timeout=30_000)
    assert len(sent) == 5


@pytest.mark.soak
def test_whoever_cancels_makes_no_version(visit: Visit, project: Project, watch: Watch, tmp_path: Path) -> None:
    (tmp_path / "weights.bin").write_bytes(os.urandom(40_000_000))
    page = visit("/data", "contributor")
    held: list[Route] = []

    def hold(route: Route) -> None:
        held.append(route)

    page.route(re.compile(r"/blobs/[0-9a-f]{64}$"), hold)
    keep_chosen(page, [tmp_path / "weights.bin"], "net")
    expect(page.get_by_role("dialog").get_by_text("0 B of 40.0 MB at the service")).to_be_visible()
    page.get_by_role("dialog").get_by_role("button", name="Cancel").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    watch.breaks_allowed = True
    for route in held:
        with contextlib.suppress(Error):
            route.continue_()
    page.wait_for_timeout(800)
    assert project.service().get(project.path("artifacts")) == []
    expect(page.get_by_role("heading", level=1)).to_contain_text("0 artifacts")


def keep_chosen(page: Page, files: list[Path], name: str) -> None:
    page.get_by_label("Files to keep").set_input_files(files)
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name of the artifact").fill(name)
    dialog.get_by_role("button", name="Keep").click()


def test_a_service_that_refuses_files_says_so_in_the_dialog(
    visit: Visit, project: Project, watch: Watch, tmp_path: Path
) -> None:
    watch.allowed.add(422)
    files = [tmp_path / f"{at}.txt" for at in range(12)]
    for at, file in enumerate(files):
        file.write_text(f"{project.name} {at}")
    page = visit("/data", "contributor")
    page.route(
        re.compile(r"/blobs/[0-9a-f]{64}$"),
        lambda route: route.fulfill(
            status=422,
            content_type="application/problem+json",
            body='{"type": "urn:kinetrum:problem:damaged", "title": "", "status": 422, "detail": "It changed."}',
        ),
    )
    keep_chosen(page, files, "notes")
    expect(page.get_by_role("dialog").get_by_text("It changed.")).to_be_visible()
    assert project.service().get(project.path("artifacts")) == []
    page.unroute_all()
    page.get_by_role("dialog").get_by_role("button", name="Keep").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("notes@1 is stored here: 12 files")


def test_who_used_exactly_this(visit: Visit, project: Project) -> None:
    nights(project)
    use(project, "nights@2")
    keep(
        project,
        "same-again",
        {"2024/station-09.csv": RIGHT, "2024/station-10.csv": b"day\n1\n", "about.md": b"# Nights"},
    )
    page = visit("/data/same-again")
    expect(page.get_by_text("the same content as nights@2")).to_be_visible()
    row = page.get_by_role("table", name="Runs of this content").get_by_role("row")
    expect(row).to_contain_text("used as train (nights@2)")
    row.get_by_role("link", name="frost-alarm/1").click()
    expect(page.get_by_role("table", name="Used").get_by_role("link", name="nights@2")).to_be_visible()
    page.get_by_role("button", name="files of nights@2").click()
    expect(page.get_by_role("table", name="Files").get_by_role("button", name="about.md")).to_be_visible()
    accessible(page)


def trace(project: Project) -> None:
    nights(project)
    made = use(project, "nights@2")
    project.generate(made, b"net")
    body = {"id": new_id(), "artifact": "frost-net", "run": made["reference"], "comment": ""}
    project.service("contributor").call("POST", project.path("models", "frost-alarm", "versions"), json=body)


def node(page: Page, name: str) -> Locator:
    return page.get_by_role("button", name=f"{name} ")


def test_the_lineage_leads_both_ways(visit: Visit, project: Project) -> None:
    trace(project)
    page = visit("/data/frost-net")
    page.get_by_role("link", name="Lineage").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(
        "frost-net@1 came from 1 version and 1 run and led to 1 model version."
    )
    for name in ("nights@2", "frost-alarm/1", "frost-net@1", "frost-alarm@1"):
        expect(node(page, name)).to_be_visible()
    accessible(page)
    node(page, "nights@2").click()
    about = page.get_by_role("complementary", name="Chosen")
    expect(about.get_by_role("list", name="Relations")).to_contain_text("used by frost-alarm/1 as train")
    about.get_by_role("button", name="Lineage from here").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("nights@2 came from nothing that was recorded")
    page.get_by_role("button", name="what it came from").click()
    expect(node(page, "frost-alarm/1")).to_have_count(0)
    page.go_back()
    node(page, "frost-alarm@1").focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Version 1 would be the first on production.")
    with page.expect_download() as download:
        page.go_back()
        page.get_by_role("link", name="PROV-JSON").click()
    assert download.value.suggested_filename == "lineage.prov.json"


def test_many_runs_are_folded(visit: Visit, project: Project) -> None:
    keep(project, "nights", {"a": b"1"})
    for number in range(70):
        begun = project.begin()
        body = {"id": new_id(), "at": 1, "artifact": "nights@1", "role": "train"}
        project.service("contributor").call("POST", project.run_path(begun, "used"), json=body)
        assert begun["number"] == number + 1
    page = visit("/lineage?of=nights@1")
    expect(page.get_by_text("71 things, folded to 2")).to_be_visible()
    node(page, "70 runs of frost-alarm").click()
    members = page.get_by_role("list", name="Members")
    expect(members.get_by_role("listitem")).to_have_count(70)
    page.get_by_label("Find in the group").fill("alarm/42")
    members.get_by_role("link", name="frost-alarm/42").click()
    expect(page).to_have_url(re.compile("/e/frost-alarm/42$"))


def test_room_and_a_purge_that_says_what_goes(visit: Visit, project: Project) -> None:
    keep(project, "nights", {"a.csv": project.name.encode() + b" and more"})
    keep(project, "nights", {"a.csv": b"2"})
    page = visit("/data/nights?version=1", "maintainer")
    page.get_by_role("button", name="Bin").click()
    expect(page.get_by_role("button", name="Restore")).to_be_visible()
    page.goto(f"/{project.name}/storage")
    expect(page.get_by_text("In the bin: 1 version; a purge would free")).to_be_visible()
    expect(
        page.get_by_role("table", name="Room of artifacts").get_by_role("row", name=re.compile("^nights 2 "))
    ).to_be_visible()
    accessible(page)
    page.get_by_role("link", name="Bin").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 version in the bin")
    page.get_by_role("button", name="Purge nights@1").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text(f"0 runs and 1 version go, and with them 1 file of {len(project.name) + 9} B")
    dialog.get_by_role("button", name="Purge 1 thing").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("The bin is empty.")
    page.goto(f"/{project.name}/data/nights?version=1")
    expect(page.get_by_role("heading", level=1)).to_contain_text("was purged: its bytes are gone")


def test_an_artifact_is_described(visit: Visit, project: Project) -> None:
    nights(project)
    page = visit("/data/nights", "contributor")
    page.get_by_role("button", name="edit").click()
    page.get_by_label("What it is").fill("One row for each station and night.")
    page.get_by_label("Labels, a line each: key=text").fill("team=frost")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_text("One row for each station and night.")).to_be_visible()
    expect(page.get_by_text("team=frost")).to_be_visible()
