"""Images, sound, video, texts and tables from Python: kept from what people have, read back, refused with a reason."""

from __future__ import annotations

import io
import wave
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from PIL import Image

import kinetrum
from kinetrum.client.media import media_files
from kinetrum.core.base import errors
from tests.support.world import Project


def opened(reference: str) -> kinetrum.RecordedRun:
    found = kinetrum.open(reference)
    assert isinstance(found, kinetrum.RecordedRun)
    return found


def pixels(raw: bytes) -> Any:
    return np.asarray(Image.open(io.BytesIO(raw)))


def test_images_of_every_sort(recording: Project, tmp_path: Path) -> None:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(2, 1))
    figure.subplots().plot([1, 2])
    path = tmp_path / "photo.JPG"
    Image.new("RGB", (8, 6), (200, 0, 0)).save(path, "JPEG")
    shades = np.linspace(0, 1, 12).reshape(3, 4)
    with kinetrum.begin("frost-alarm") as run:
        run.media.images(
            "sorts",
            [
                shades,
                (shades * 255).astype(np.uint8)[:, :, None],
                shades > 0.5,
                Image.new("CMYK", (5, 5)),
                figure,
                path,
                np.zeros((3, 4, 4), np.uint8),
            ],
            captions=["a", "b", "c", "d", "e", "f", None],
            boxes=[[(0, 1, 2, 2, "frost", 0.5)], *[None] * 6],
            masks=[{"truth": shades > 0.5}, *[{}] * 6],
            classes={1: "frost"},
        )
        for epoch in run.progress(range(2)):
            run.media.image("one", np.full((2, 2), epoch / 2), caption=f"epoch {epoch}")
    run.flush()
    media = opened("frost-alarm/1").media
    assert set(media) == {"sorts", "one"}
    kept = media["sorts"]
    assert [item["file"][3:] for item in kept.items] == [".png", ".png", ".png", ".png", ".png", ".jpg", ".png"]
    assert [item["caption"] for item in kept.items] == ["a", "b", "c", "d", "e", "f", ""]
    first = kept.items[0]
    assert first["boxes"][0] | {"label": "", "score": 0} == {
        "x": 0,
        "y": 1,
        "width": 2,
        "height": 2,
        "label": "",
        "score": 0,
    }
    assert pixels(kept.read("001.png")).tolist() == np.round(shades * 255).astype(int).tolist()
    assert pixels(kept.read(first["masks"][0]["file"])).tolist() == (shades > 0.5).astype(int).tolist()
    assert kept.read("006.jpg") == path.read_bytes()
    assert (media.steps("one"), media["one"].step, media.at("one", 0).items[0]["caption"]) == ([0, 1], 1, "epoch 0")
    with pytest.raises(errors.NotFound, match="not at step 7"):
        media.at("one", 7)
    with pytest.raises(errors.InvalidInput, match="7 items; name one"):
        kept.read()
    assert sorted(path.name for path in kept.download(tmp_path / "out").iterdir())[0] == "001.mask1.png"


def test_sound_video_texts_and_tables(recording: Project, tmp_path: Path) -> None:
    frame = pd.DataFrame({"station": ["top", "wall"], "low_c": [0.5, np.nan], "at": pd.to_datetime(["2026-04-01"] * 2)})
    with kinetrum.begin("frost-alarm") as run:
        run.media.sound("tone", np.sin(np.arange(800) / 9) / 2, rate=8_000, caption="a tone")
        run.media.video("film", [np.full((15, 21, 3), at / 6) for at in range(6)], rate=3)
        run.media.text("report", "# Frost ✓\n", markdown=True)
        run.media.table("frame", frame, key="station")
        run.media.table("arrow", pa.table({"n": [1, 2]}))
        run.media.table("rows", [{"a": 1, "b": "x"}, {"a": "mixed"}])
    run.flush()
    media = opened("frost-alarm/1").media
    with wave.open(io.BytesIO(media["tone"].read())) as tone:
        assert (tone.getframerate(), tone.getnframes(), tone.getnchannels()) == (8_000, 800, 1)
    import av

    with av.open(io.BytesIO(media["film"].read())) as film:
        assert len([1 for _ in film.decode(video=0)]) == 6
        assert (film.streams.video[0].width, film.streams.video[0].height) == (22, 16)
    assert media["report"].text() == "# Frost ✓\n"
    rows = media["frame"].rows()
    assert (rows.columns, rows[0][:2], rows.total) == (("station", "low_c", "at"), ("top", 0.5), 2)
    assert str(rows[1][1]) in {"nan", "None"}
    assert media["rows"].rows().rows == (("1", "x"), ("mixed", None))
    assert list(media["rows"].rows().to_pandas().columns) == ["a", "b"]
    assert list(media["arrow"].rows()) == [(1,), (2,)]


def test_without_arrow_a_table_is_csv(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import builtins

    there = builtins.__import__

    def missing(name: str, *rest: Any, **more: Any) -> Any:
        if name.startswith("pyarrow"):
            raise ImportError(name)
        return there(name, *rest, **more)

    monkeypatch.setattr(builtins, "__import__", missing)
    path = media_files.save_table({"a": [1, None], "b": ["x", 'y"']}, None, tmp_path)
    assert path.name == "table.csv.gz"


def test_predictions_are_browsed_and_compared(recording: Project) -> None:
    truth = np.array([0, 1, 1, 0])
    for shift in (0.0, 0.6):
        with kinetrum.begin("frost-alarm") as run:
            run.evaluate(truth, np.array([0.1, 0.4, 0.9, 0.3]) + shift * (truth - 0.5), on="held", rows=list("abcd"))
        run.flush()
    first, second = (opened(f"frost-alarm/{number}").predictions("held") for number in (1, 2))
    wrong = kinetrum.rows(first, wrong=True)
    assert (wrong.wrong, [row[0] for row in wrong]) == (1, ["b"])
    joined = kinetrum.join_rows(first, second, outcome="newly right")
    assert (joined.key, dict(joined.counts), [row[0] for row in joined]) == (
        "row",
        {"newly right": 1, "both right": 3},
        ["b"],
    )
    assert kinetrum.rows(first, sort="score:desc", limit=1)[0][0] == "c"
    with pytest.raises(errors.InvalidInput, match="Unknown column 'scores'"):
        kinetrum.rows(first, where="scores > 1")
    with pytest.raises(errors.NotFound, match="kept no predictions on spring; it kept frost-alarm-held-predictions"):
        opened("frost-alarm/1").predictions("spring")
    assert opened("frost-alarm/1").predictions() == first
    with kinetrum.begin("frost-alarm") as run:
        pass
    run.flush()
    with pytest.raises(errors.NotFound, match=r"kept no predictions row by row\.$"):
        opened("frost-alarm/3").predictions()
    with kinetrum.begin("frost-alarm") as run:
        for on in ("held", "spring"):
            run.evaluate(truth, truth, on=on, rows=list("abcd"))
    run.flush()
    with pytest.raises(errors.InvalidInput, match="say on which data"):
        opened("frost-alarm/4").predictions()


def test_plots_are_laid_over_in_the_order_named(recording: Project, tmp_path: Path) -> None:
    chance = np.random.default_rng(3)
    truth = chance.integers(0, 2, 200)
    for shift in (0.2, 0.5):
        with kinetrum.begin("frost-alarm") as run:
            run.plot.roc("held", truth, truth * shift + chance.random(200))
        run.flush()
    found = kinetrum.overlay(["frost-alarm/2", "frost-alarm/1"], "held/roc")
    assert [plot.run for plot in found.plots] == ["frost-alarm/2", "frost-alarm/1"]
    area = next(said for said in found.numbers() if said.name == "area")
    assert area.change is not None
    assert area.change == pytest.approx(area.values[0] - area.values[1])
    assert area.change > 0.05
    assert [series.of for series in found.series()] == [0, 1]
    assert found.save(tmp_path / "roc.csv").read_text().startswith("plot,false_positive_rate")


@pytest.mark.parametrize(
    ("give", "said"),
    [
        (lambda m: m.image("x", np.zeros((2, 2, 2))), r"shape \(2, 2, 2\)"),
        (lambda m: m.image("x", np.full((2, 2), 3.5)), "from 3.5 to 3.5"),
        (lambda m: m.image("x", np.full((2, 2), np.nan)), "nan"),
        (lambda m: m.images("x", []), "0 images"),
        (lambda m: m.images("x", [np.zeros((2, 2))], captions=["a", "b"]), "1 images and 2 captions"),
        (lambda m: m.image("x", np.zeros((2, 2)), boxes=[(1, 2)]), "width"),
        (lambda m: m.image("x", np.zeros((2, 2)), masks={"t": np.zeros((3, 2), int)}), "its image"),
        (lambda m: m.image("x", "none.png"), "no file none.png"),
        (lambda m: m.image("x", __file__), "ending"),
        (lambda m: m.sound("x", np.zeros(9)), "need their rate"),
        (lambda m: m.sound("x", np.full(9, 2.0), rate=8), "beyond -1 to 1"),
        (lambda m: m.video("x", np.zeros((2, 2))), "need their rate"),
        (lambda m: m.text("x", 3), "not int"),
        (lambda m: m.text("x", "a" * 1_000_001), "over 1,000,000"),
        (lambda m: m.table("x", {"a": [1], "b": []}), "equal length"),
        (lambda m: m.table("x", {"a": [1, 1]}, key="a"), "stands twice"),
        (lambda m: m.table("x", {"a": [1]}, key="b"), "key names 'b'"),
        (lambda m: m.table("x", [1, 2]), "rows as mappings"),
    ],
)
def test_what_does_not_fit_is_refused_and_nothing_is_kept(recording: Project, give: Any, said: str) -> None:
    with kinetrum.begin("frost-alarm") as run:
        with pytest.raises(errors.KinetrumError, match=said):
            give(run.media)
        recorded = run._recorder.writer.folder
        assert not list(recorded.glob("**/*.png"))
    assert not opened(run.id).generated
