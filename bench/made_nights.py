"""Nights with measurements that are made up: a star that is eclipsed, in a folder of nights, without a pixel being measured."""

import math
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import fitsio
import numpy as np

from ulvar.engine import JobContext
from ulvar.night import Night, Product
from ulvar.night.stations import run_intake, series_path
from ulvar.photometry import SeriesRow, write_series

# Day 0 is 2027-02-11, noon.
JD0 = 2461448.0
PERIOD, EPOCH = 0.7123, JD0 + 0.35
STAR = (115.5, 41.3)
_NOISE = 0.003


# Of the disc in front: its radius and impact in radii of the other, how far it moves [radii a day], and how much of the light it can take.
_RADIUS, _IMPACT, _SPEED, _SHARE = 0.8, 0.45, 45.0, 0.6


def dip(time: np.ndarray) -> np.ndarray:
    """Return the dimming of the star [mag]: a disc passes before another of even light."""
    phase = (np.asarray(time) - EPOCH + PERIOD / 2) % PERIOD - PERIOD / 2
    away = np.hypot(_IMPACT, _SPEED * phase)
    # Between first and last touch, and where neither lies within the other, two segments of circles overlap.
    d = np.clip(away, 1 - _RADIUS + 1e-9, 1 + _RADIUS - 1e-9)
    one = np.arccos((d**2 + 1 - _RADIUS**2) / (2 * d))
    other = np.arccos((d**2 + _RADIUS**2 - 1) / (2 * d * _RADIUS))
    lens = one - np.sin(2 * one) / 2 + _RADIUS**2 * (other - np.sin(2 * other) / 2)
    return np.asarray(-2.5 * np.log10(1 - _SHARE * lens / math.pi))


def rows_of(
    times: np.ndarray, level: float, seed: int, *, name: str = "T 12", dimming: Callable[[np.ndarray], np.ndarray] = dip, files: Sequence[str] = (),
    dec: float = STAR[1],
) -> list[SeriesRow]:  # fmt: skip
    """Return the rows of a star, with noise of 3 mmag, and two comparison stars with hardly any."""
    rng = np.random.default_rng(seed)
    rows = []
    for k, jd in enumerate(times):
        when = datetime(2027, 2, 11, 12, tzinfo=UTC) + timedelta(days=float(jd - JD0))
        cloud = 1 - 0.1 * math.sin(9 * k) ** 2
        target = 4e4 * 10 ** (-0.4 * (float(dimming(np.array([jd]))[0]) + level)) * (1 + rng.normal(0, _NOISE))
        for star, role, flux, ra in (
            (name, "target", target, STAR[0]),
            ("a", "comparison", 9e4, 115.6),
            ("b", "comparison", 7e4, 115.7),
        ):
            rows.append(
                SeriesRow(
                    file=files[k] if k < len(files) else f"light-{k:03d}.fits", time_utc_mid=when, jd_utc=float(jd), bjd_tdb=float(jd), name=star,
                    role=role, x=10.0, y=10.0, flux=float(flux * cloud), flux_error=_NOISE * target if star == name else 9.0, sky=200.0, sky_error=0.1, peak=900.0, fwhm_px=3.0,
                    airmass=1.2, flags=0, ra=ra, dec=dec if star == name else 41.3,
                )
            )  # fmt: skip
    return rows


def lay_night(
    folder: Path, name: str, filters: Sequence[str], rows: Callable[[str, list[str]], list[SeriesRow]], day: str
) -> Night:
    """Make a night of two small lights a filter, whose tables hold what `rows` gives for filter and names of the lights."""
    raw = folder / f"{name}-raw"
    raw.mkdir(parents=True)
    for band in filters:
        for k in range(2):
            header = {
                "IMAGETYP": "Light", "OBJECT": "field 12", "FILTER": band, "EXPTIME": 30.0, "DATE-OBS": f"{day}T2{k}:00:00", "RA": 115.5, "DEC": 41.3,
            }  # fmt: skip
            fitsio.write(str(raw / f"{band}{k}.fits"), np.full((24, 32), 500 + k, np.uint16), header=header)
    night = Night.create(folder / name, [raw])
    run_intake(night, JobContext())
    for series in night.series():
        files = [Path(f.path).name for f in series.members]
        path = series_path(night, series)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_series(path, rows(series.filter, files))
        measured = [Product("measured", f.path, "", {"file": Path(f.path).name}) for f in series.members]
        night.store_products("measured", measured, series=series.key, clear=True)
    return night


def lay_eclipsing(folder: Path) -> None:
    """Lay three nights of the star in a folder ``nights``: two around minima, the second in two filters, one beside a minimum."""
    place = folder / "nights"
    plan = {
        # Name, day after the first, filters, what the night calls the star.
        "first": (0, ("V",), "T 12"), "second": (5, ("B", "V"), "t12 again"), "third": (9, ("V",), "T-12"),
    }  # fmt: skip
    for number, (name, (day, filters, called)) in enumerate(plan.items()):
        middle = EPOCH + PERIOD * round((JD0 + day + 0.35 - EPOCH) / PERIOD)
        # The third night saw no minimum.
        begin = middle - 0.1 if name != "third" else middle + 0.12

        def rows(band: str, files: list[str], *, n=number, at=begin, called=called) -> list[SeriesRow]:
            return rows_of(
                at + np.arange(90) * 0.2 / 90, 0.1 * n + (0.6 if band == "B" else 0.0), 7 * n + len(band), name=called, files=files,
            )  # fmt: skip

        lay_night(place / "2027", name, filters, rows, f"2027-02-{11 + day}").close()


def follow_star(folder: Path) -> Path:
    """Lay nine nights over forty days, two of them beside any minimum, three in two filters; returns their folder."""
    place = folder / "nights"
    for number, day in enumerate((0, 1, 4, 9, 10, 16, 23, 31, 40)):
        middle = EPOCH + PERIOD * round((JD0 + day + 0.35 - EPOCH) / PERIOD)
        begin = middle - 0.1 + 0.03 * math.sin(3 * number) if number % 4 != 3 else JD0 + day + 0.3

        def rows(band: str, files: list[str], *, n=number, at=begin) -> list[SeriesRow]:
            level = 0.05 * math.sin(n) + (0.6 if band == "B" else 0.0)
            return rows_of(at + np.arange(90) * 0.2 / 90, level, 7 * n + ord(band), name="Tarnholt 12", files=files)

        date = (datetime(2027, 2, 11, tzinfo=UTC) + timedelta(days=day)).date()
        lay_night(place, f"tarnholt-{date}", ("B", "V") if number % 3 == 1 else ("V",), rows, str(date)).close()
    return place
