"""What the frost alarm's runs keep to be seen: maps of nights, a film of the season, a tone, a report, tables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kinetrum.client.recording.run import Run
from kinetrum.demo.weather import STATIONS, Nights

WIDTH, HEIGHT = 120, 80
FILM_NIGHTS, FILM_RATE = 32, 6
_CALM, _COLD = np.array([236, 232, 220]), np.array([28, 84, 148])
# Where the stations stand on the map: across by hand, down by height.
_ACROSS = (14, 40, 66, 98, 108, 84, 58, 30, 12, 46, 74, 100, 62, 34)
_HIGHEST, _LOWEST = STATIONS[0][1], STATIONS[-1][1]
_DOWN = [6 + (_HIGHEST - height) * (HEIGHT - 14) // (_HIGHEST - _LOWEST) for _, height, _ in STATIONS]


def row_names(nights: Nights) -> list[str]:
    """Return a name for each row, the same in every run: 2026-s09-n12."""
    days = nights.features[:, -1].astype(int)
    return [
        f"{season}-s{station:02d}-n{day:02d}"
        for season, station, day in zip(nights.season, nights.station, days, strict=True)
    ]


def _weights() -> NDArray[np.float64]:
    """Return how much each station counts at each place of the map: by distance, height more than breadth."""
    down, across = np.mgrid[0:HEIGHT, 0:WIDTH]
    distance = [np.hypot((down - y) * 1.6, across - x) + 1.5 for x, y in zip(_ACROSS, _DOWN, strict=True)]
    close = np.stack(distance) ** -2.2
    weights: NDArray[np.float64] = close / close.sum(axis=0)
    return weights


_WEIGHTS = _weights()


def _of_night(nights: Nights, values: NDArray[Any], day: int) -> NDArray[Any]:
    """Return the values of one night in the stations' order."""
    rows = np.flatnonzero(nights.features[:, -1].astype(int) == day)
    return np.asarray(values[rows[np.argsort(nights.station[rows])]])


def _map_of(values: NDArray[np.float64]) -> NDArray[np.uint8]:
    chance = np.tensordot(values, _WEIGHTS, axes=1)[:, :, None]
    return (_CALM * (1 - chance) + _COLD * chance).astype(np.uint8)


def keep_maps(run: Run, held_out: Nights, chance: NDArray[np.float64], threshold: float, step: int) -> None:
    """Keep the maps of the four nights that went worst, with the stations that were taken wrong."""
    days = np.unique(held_out.features[:, -1].astype(int))
    wrong = (chance >= threshold) != held_out.frost
    worst = sorted(days, key=lambda day: (-int(_of_night(held_out, wrong, day).sum()), day))[:4]
    maps, boxes, masks, captions = [], [], [], []
    for day in worst:
        forecast, frost = _of_night(held_out, chance, day), _of_night(held_out, held_out.frost, day)
        maps.append(_map_of(forecast))
        boxes.append(_boxes(forecast, frost, threshold))
        nearest = _WEIGHTS.argmax(axis=0)
        masks.append({"froze": frost[nearest].astype(int), "alarm": (forecast >= threshold)[nearest].astype(int) * 2})
        missed = sum(box[4] == "missed" for box in boxes[-1])
        captions.append(
            f"night {day} of {int(held_out.season[0])}: {missed} missed, {len(boxes[-1]) - missed} false alarms"
        )
    run.media.images(
        "worst-nights",
        maps,
        captions=captions,
        boxes=boxes,
        masks=masks,
        classes={1: "frost at dawn", 2: "alarm given"},
        step=step,
    )


def _boxes(forecast: NDArray[np.float64], frost: NDArray[np.bool_], threshold: float) -> list[tuple[Any, ...]]:
    boxes: list[tuple[Any, ...]] = []
    for at, (x, y) in enumerate(zip(_ACROSS, _DOWN, strict=True)):
        if (forecast[at] >= threshold) != frost[at]:
            label = "missed" if frost[at] else "false alarm"
            boxes.append((x - 6, y - 5, 12, 10, label, round(float(forecast[at]), 3)))
    return boxes


def keep_the_rest(run: Run, held_out: Nights, chance: NDArray[np.float64], threshold: float) -> None:
    """Keep what is told once, at the end: a film, a tone, a report, each station's score and each row's prediction."""
    alarm = chance >= threshold
    run.media.video(
        "season-film",
        [_map_of(_of_night(held_out, chance, day)) for day in range(FILM_NIGHTS)],
        rate=FILM_RATE,
        caption=f"chance of frost, {FILM_NIGHTS} nights",
    )
    coldest = [float(_of_night(held_out, chance, day).max()) for day in range(FILM_NIGHTS)]
    run.media.sound(
        "season-tone", _tone(coldest), rate=8_000, caption="one note a night, higher where frost is likelier"
    )
    table = _by_station(held_out, alarm)
    run.media.table("by-station", table, key="station")
    run.plot.table(
        "wrong-by-station",
        table,
        x="station",
        y=["missed", "false_alarms"],
        mark="bars",
        y_name="nights",
        title="Nights taken wrong",
    )
    run.media.text("night-watch-report", _report(table, held_out, alarm), markdown=True)
    run.media.table(
        "frost-alarm-held-out-predictions",
        {
            "row": row_names(held_out),
            "truth": held_out.frost,
            "prediction": alarm,
            "score": np.round(chance, 6),
            "station": [STATIONS[number - 1][0] for number in held_out.station],
            "minimum_c": np.round(held_out.minimum_c, 2),
        },
        key="row",
    )


def _tone(chances: Sequence[float]) -> NDArray[np.float64]:
    time = np.arange(1_000) / 8_000
    fade = np.minimum(1, np.minimum(time, time[::-1]) * 100)
    notes = [0.25 * np.sin(2 * np.pi * (220 + 440 * chance) * time) * fade for chance in chances]
    return np.concatenate(notes)


def _by_station(held_out: Nights, alarm: NDArray[np.bool_]) -> dict[str, list[Any]]:
    rows: dict[str, list[Any]] = {
        name: [] for name in ("station", "height_m", "nights", "frosts", "missed", "false_alarms", "recall")
    }
    for number, (name, height, _) in enumerate(STATIONS, 1):
        here = held_out.station == number
        frosts, missed = int(held_out.frost[here].sum()), int((held_out.frost & ~alarm)[here].sum())
        rows["station"].append(name)
        rows["height_m"].append(height)
        rows["nights"].append(int(here.sum()))
        rows["frosts"].append(frosts)
        rows["missed"].append(missed)
        rows["false_alarms"].append(int((alarm & ~held_out.frost)[here].sum()))
        rows["recall"].append(round(1 - missed / frosts, 4) if frosts else None)
    return rows


def _report(table: dict[str, list[Any]], held_out: Nights, alarm: NDArray[np.bool_]) -> str:
    worst = max(range(len(STATIONS)), key=lambda at: table["missed"][at])
    return (
        f"# Watch of {int(held_out.season[0])}\n\n{int(held_out.frost.sum())} frosts at {len(STATIONS)} stations, "
        f"**{int((held_out.frost & ~alarm).sum())} missed**, {int((alarm & ~held_out.frost).sum())} false alarms.\n\n"
        f"- most missed at *{table['station'][worst]}*: {table['missed'][worst]} of {table['frosts'][worst]}\n"
        "- see the table `by-station` for the others\n"
    )
