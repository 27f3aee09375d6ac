"""Seeded weather of fourteen stations on a slope, with physics enough to be learnable.

On clear, dry, calm nights the ground radiates its warmth away; cold air drains down the slope and
gathers in hollows; wind mixes it; cloud keeps the warmth. Sensors drop out, and one reads too warm.
"""

from __future__ import annotations

import csv
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

STATIONS = (
    ("Top Wall", 212, 0.02),
    ("Ridge Tree", 205, 0.05),
    ("Wind Gap", 196, 0.03),
    ("High Press", 188, 0.12),
    ("East Brow", 180, 0.15),
    ("Upper Gate", 171, 0.22),
    ("Quince Walk", 163, 0.28),
    ("Long Bank", 155, 0.35),
    ("Pond Side", 148, 0.52),
    ("Stone Row", 141, 0.48),
    ("Alder Dip", 133, 0.70),
    ("Gate Field", 127, 0.62),
    ("Mill Bend", 121, 0.78),
    ("Lower Hollow", 114, 0.97),
)
FEATURES = ("evening_c", "humidity", "cloud", "wind_ms", "dew_c", "height_m", "hollow", "fall_c", "day")
NIGHTS_A_SEASON = 64
FAULTY_STATION, FAULT_C = 9, 1.8
FROST_C = 0.0


@dataclass(frozen=True)
class Nights:
    """One row per station and night: features (rows x 9), dawn minimum in °C, station, season."""

    features: NDArray[np.float64]
    minimum_c: NDArray[np.float64]
    station: NDArray[np.int64]
    season: NDArray[np.int64]

    @property
    def frost(self) -> NDArray[np.bool_]:
        """True where it froze at dawn."""
        return self.minimum_c < FROST_C

    def of_seasons(self, seasons: tuple[int, ...]) -> Nights:
        """Select seasons."""
        mask = np.isin(self.season, seasons)
        return Nights(self.features[mask], self.minimum_c[mask], self.station[mask], self.season[mask])


def _season(year: int) -> Nights:
    random = np.random.default_rng(year)
    days = np.arange(NIGHTS_A_SEASON, dtype=float)
    evening = 3.4 + 0.075 * days + np.cumsum(random.normal(0, 0.5, days.size)) * 0.5 + random.normal(0, 1.6, days.size)
    cloud = np.clip(random.beta(0.9, 1.1, days.size), 0, 1)
    wind = random.gamma(1.6, 1.2, days.size)
    humidity = np.clip(0.55 + 0.28 * cloud + random.normal(0, 0.09, days.size), 0.2, 1)
    rows, minima, stations = [], [], []
    for number, (_, height, hollow) in enumerate(STATIONS, 1):
        warm = evening - 0.0065 * (height - 160) + random.normal(0, 0.35, days.size)
        dew = warm - (1 - humidity) * 17
        fall = np.clip(1.9 * (1 - cloud) * np.exp(-wind / 3) + random.normal(0, 0.3, days.size), 0, None)
        radiated = 5.6 * (1 - 0.8 * cloud) * (1.25 - 0.5 * humidity)
        pooled = 3.4 * hollow * np.exp(-wind / 1.4) * (1 - 0.7 * cloud)
        noise = random.normal(0, 1.0, days.size)
        minima.append(np.maximum(warm - radiated - pooled + 0.25 * wind + noise, dew - 4.5))
        stations.append(np.full(days.size, number))
        columns = (
            warm,
            humidity,
            cloud,
            wind,
            dew,
            np.full(days.size, float(height)),
            np.full(days.size, hollow),
            fall,
            days,
        )
        rows.append(np.column_stack(columns))
    return Nights(
        np.concatenate(rows),
        np.concatenate(minima),
        np.concatenate(stations),
        np.full(NIGHTS_A_SEASON * len(STATIONS), year),
    )


def make_nights(years: tuple[int, ...], faulty: bool) -> Nights:
    """Make all nights of some blossom seasons; with the fault, station 9 read 1.8 °C too warm in 2024."""
    parts = [_season(year) for year in years]
    nights = Nights(
        np.concatenate([part.features for part in parts]),
        np.concatenate([part.minimum_c for part in parts]),
        np.concatenate([part.station for part in parts]),
        np.concatenate([part.season for part in parts]),
    )
    if faulty:
        wrong = (nights.station == FAULTY_STATION) & (nights.season == 2024)
        nights.features[wrong, 0] += FAULT_C
        nights.minimum_c[wrong] += FAULT_C
    return nights


def write_nights(nights: Nights, folder: Path) -> None:
    """Write one CSV file per season and station, as the stations deliver them."""
    for season in np.unique(nights.season):
        place = folder / f"{season}-spring"
        place.mkdir(parents=True, exist_ok=True)
        for station in np.unique(nights.station):
            chosen = (nights.season == season) & (nights.station == station)
            with (place / f"station-{station:02d}.csv").open("w", newline="") as file:
                out = csv.writer(file)
                out.writerow([*FEATURES, "minimum_c"])
                for row, minimum in zip(nights.features[chosen], nights.minimum_c[chosen], strict=True):
                    out.writerow([f"{value:.3f}" for value in row] + [f"{minimum:.3f}"])


def read_nights(folder: Path) -> Nights:
    """Read what `write_nights` wrote; the training scripts see only these files."""
    features, minima, stations, seasons = [], [], [], []
    for path in sorted([*folder.glob("*-spring/station-*.csv"), *folder.glob("springs/*/station-*.csv")]):
        table = np.loadtxt(path, delimiter=",", skiprows=1, ndmin=2)
        features.append(table[:, :-1])
        minima.append(table[:, -1])
        stations.append(np.full(len(table), int(path.stem[-2:])))
        seasons.append(np.full(len(table), int(path.parent.name[:4])))
    return Nights(np.concatenate(features), np.concatenate(minima), np.concatenate(stations), np.concatenate(seasons))


def write_stations(path: Path) -> None:
    """Write the list of stations."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["number", "name", "height_m", "hollow"])
        out.writerows([number, *station] for number, station in enumerate(STATIONS, 1))
