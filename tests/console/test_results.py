"""Plots, images, sound, video, texts and tables in the console: on a run, on the compare page and in the lens."""

from __future__ import annotations

import io
import json
import wave
from pathlib import Path
from typing import Any

from PIL import Image
from playwright.sync_api import Page, expect

from tests.console.conftest import Watch
from tests.console.test_console import Visit, accessible, record
from tests.service.data.test_results_api import LATER, TABLE, generate, png
from tests.support.world import Project, new_id

ROC = {"fpr": [0, 0.2, 1], "tpr": [0, 0.8, 1], "threshold": [{"float": "Infinity"}, 0.5, 0]}
DRAWN = {"mark": "line", "x": "fpr", "y": ["tpr"], "x_name": "false alarms", "y_name": "found", "diagonal": True}


def plot(
    project: Project, begun: dict[str, Any], name: str, columns: dict[str, Any], view: dict[str, Any], **more: Any
) -> None:
    body = {"id": new_id(), "at": 1, "name": name, "columns": columns, "view": view, **more}
    project.service("contributor").call("POST", project.run_path(begun, "plots"), json=body)


def matrix(project: Project, begun: dict[str, Any], shift: int) -> None:
    columns = {
        "truth": ["calm", "calm", "frost", "frost"],
        "prediction": ["calm", "frost"] * 2,
        "count": [9, 1, 2, 8 + shift],
    }
    view = {"mark": "matrix", "x": "prediction", "y": ["count"], "group": "truth"}
    plot(project, begun, "held/confusion", columns, view, kind="confusion", numbers={"accuracy": 0.8})


def drawn(page: Page, name: str) -> Any:
    figure = page.get_by_role("figure", name=f"Plot {name}")
    figure.scroll_into_view_if_needed()
    expect(figure.locator("[data-drawn]").first).to_be_visible()
    return figure


def test_a_plot_is_drawn_declared_and_taken_along(visit: Visit, project: Project, tmp_path: Path) -> None:
    begun = record(project, 1)
    plot(project, begun, "held/roc", ROC, DRAWN, kind="roc", numbers={"area": 0.8})
    matrix(project, begun, 0)
    plot(project, begun, "empty", {"x": [], "y": []}, {"x": "x", "y": ["y"]})
    page = visit("/e/frost-alarm/1")
    figure = drawn(page, "held/roc")
    expect(figure.get_by_role("row", name="area 0.8")).to_be_visible()
    expect(page.get_by_role("figure", name="Plot empty")).to_contain_text("There is nothing to draw.")
    figure.get_by_label("log x").check()
    expect(figure.get_by_text("1 place at or below 0 cannot stand on a log scale")).to_be_visible()
    figure.get_by_label("x", exact=True).select_option("threshold")
    figure.get_by_role("button", name="Declare", exact=True).click()
    expect(page.get_by_text("held/roc is drawn so for everybody.")).to_be_visible()
    (listed,) = [row for row in project.service().get(project.run_path(begun, "plots")) if row["name"] == "held/roc"]
    assert (listed["view"]["x"], listed["view"]["x_scale"], listed["declared"]) == ("threshold", "log", True)
    for form, begins in (("PNG", b"\x89PNG"), ("SVG", b"<svg"), ("CSV", b"run,fpr,tpr,threshold\r\n")):
        figure.get_by_role("button", name="Save held/roc").click()
        with page.expect_download() as waiting:
            page.get_by_role("menuitem", name=form).click()
        waiting.value.save_as(tmp_path / form)
        assert (tmp_path / form).read_bytes().startswith(begins)
    drawn(page, "held/confusion").get_by_label("cells").select_option("row")
    accessible(page)


def test_plots_of_two_runs_are_laid_over_one_another(visit: Visit, project: Project) -> None:
    for number in (1, 2):
        begun = record(project, number)
        plot(project, begun, "held/roc", ROC, DRAWN, kind="roc", numbers={"area": 0.8 + number / 100})
        matrix(project, begun, number)
    page = visit("/compare?run=frost-alarm/2~1&run=frost-alarm/1~2")
    figure = drawn(page, "held/roc")
    expect(figure.get_by_role("list", name="Series").get_by_role("listitem")).to_have_text(["Run 2", "Run 1"])
    expect(figure.get_by_role("row", name="area 0.82 0.81 +0.01")).to_be_visible()
    expect(drawn(page, "held/confusion").get_by_role("img")).to_have_count(2)
    page.goto(f"/{project.name}/e/frost-alarm?lens=kept")
    expect(page.get_by_role("region", name="Lens").get_by_role("img").first).to_be_visible()
    page.get_by_role("button", name="Curves").click()
    expect(page.get_by_label("y axis")).to_be_visible()


def test_images_step_by_step_with_boxes_and_masks(visit: Visit, project: Project) -> None:
    begun = record(project, 1)
    mask = io.BytesIO()
    Image.new("L", (40, 20), 1).save(mask, "PNG")
    for step in (1, 5):
        said = {
            "format": 1,
            "items": [
                {
                    "file": f"{at}.png",
                    "caption": f"night {at} at {step}",
                    "boxes": [{"x": 2, "y": 2, "width": 9, "height": 9, "label": "missed"}],
                    "masks": [{"name": "truth", "file": "mask.png", "classes": {"1": "frost"}}],
                }
                for at in range(3)
            ],
        }
        files = {f"{at}.png": png((step, at * 50, 200)) for at in range(3)}
        generate(
            project,
            begun,
            "maps",
            "image",
            {**files, "mask.png": mask.getvalue(), "items.json": json.dumps(said).encode()},
            step,
        )
    page = visit("/e/frost-alarm/1")
    figure = page.get_by_role("figure", name="image maps")
    figure.scroll_into_view_if_needed()
    expect(figure.get_by_text("2 of 2 kept")).to_be_visible()
    expect(figure.get_by_role("button", name="Open night 0 at 5")).to_be_visible()
    figure.get_by_label("Step of maps").press("ArrowLeft")
    expect(figure.get_by_role("button", name="Open night 2 at 1")).to_be_visible()
    accessible(page)
    figure.get_by_role("button", name="Open night 1 at 1").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text("missed")).to_be_visible()
    expect(dialog.get_by_text("frost")).to_be_visible()
    dialog.get_by_label("boxes").uncheck()
    expect(dialog.get_by_text("missed")).to_have_count(0)
    page.keyboard.press("ArrowRight")
    expect(dialog.get_by_text("3 of 3")).to_be_visible()


def test_sound_video_and_texts(visit: Visit, project: Project, watch: Watch) -> None:
    begun = record(project, 1)
    tone = io.BytesIO()
    with wave.open(tone, "wb") as file:
        file.setparams((1, 2, 8_000, 0, "NONE", ""))
        file.writeframes(bytes(8_000))
    generate(project, begun, "tone", "sound", {"tone.wav": tone.getvalue()})
    generate(project, begun, "film", "video", {"film.webm": b"no video at all"})
    generate(project, begun, "report", "text", {"r.md": b"# Frost\n\n<script>document.title = 'taken'</script>"})
    generate(project, begun, "broken", "image", {"b.png": b"<svg onload=alert(1)>"})
    page = visit("/e/frost-alarm/1")
    player = page.get_by_label("tone.wav")
    player.scroll_into_view_if_needed()
    page.wait_for_function("() => document.querySelector('audio').duration === 0.5")
    expect(page.get_by_text("film.webm cannot be played by this browser.")).to_be_visible()
    expect(page.get_by_role("heading", name="Frost")).to_be_visible()
    expect(page.get_by_text("b.png cannot be shown.")).to_be_visible()
    assert page.title() != "taken"


def test_predictions_row_by_row(visit: Visit, project: Project, watch: Watch) -> None:
    watch.allowed.add(422)
    for number, content in ((1, TABLE), (2, LATER)):
        generate(project, record(project, number), "guesses", "table", {"p.csv": content})
    page = visit("/e/frost-alarm/1")
    figure = page.get_by_role("figure", name="table guesses")
    rows = figure.get_by_role("table", name="Rows").get_by_role("row")
    expect(rows).to_have_count(4)
    figure.get_by_role("button", name="score").click()
    figure.get_by_role("button", name="score").click()
    expect(rows.nth(1)).to_contain_text("0.9")
    figure.get_by_label("only the 1 wrong one").check()
    expect(rows).to_have_count(2)
    figure.get_by_label("Conditions on rows").fill("scor > 1")
    figure.get_by_role("button", name="Filter").click()
    expect(figure.get_by_role("alert")).to_contain_text("Unknown column 'scor'")
    page.goto(f"/{project.name}/compare?run=frost-alarm/1~1&run=frost-alarm/2~2")
    figure = page.get_by_role("figure", name="table guesses")
    figure.get_by_role("button", name="1 newly wrong").click()
    rows = figure.get_by_role("table", name="Rows").get_by_role("row")
    expect(rows).to_have_count(2)
    expect(rows.nth(1)).to_contain_text("↓ newly wrong")
    accessible(page)
