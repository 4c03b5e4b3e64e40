"""Measuring: 200 stars in an exposure of 24 megapixels beside reading it alone; profile fits in a crowd.

Usage: measuring.py [--night EXPOSURES]

The exposure's stars and their places are known, as in a night that was scored. Times are of the processor; the best of four. A night
of 24 megapixels (of six files, each under many names) is measured by all cores, beside reading it by all cores.
"""

from __future__ import annotations

import argparse
import math
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

import fitsio
import numpy as np

from ulvar.astrometry import Wcs
from ulvar.engine import JobContext, PoolKeeper
from ulvar.flows import MeasureOptions, MeasureTask, Reference, measure_series
from ulvar.flows.measure import measure_item
from ulvar.frames import ExposureFacts, read_frame, robust_spread, scan_file
from ulvar.photometry import ListedStar, measure_profiles, vet_stars, vetting, weighing
from ulvar.registration import Transform
from ulvar.simulation import Psf, star_field
from ulvar.stars import StarTable, find_stars

_HEADER = {
    "IMAGETYP": "light", "EXPTIME": 10.0, "EGAIN": 1.5, "DATE-OBS": "2027-02-11T20:00:00", "SITELAT": 61.2, "SITELONG": 9.7,
    "SITEELEV": 640.0, "APTDIA": 250.0,
}  # fmt: skip


def _best(work: Callable[[], object]) -> float:
    work()
    took = []
    for _ in range(4):
        began = time.process_time()
        work()
        took.append(time.process_time() - began)
    return min(took)


def _table(rng: np.random.Generator, count: int) -> StarTable:
    columns = {name: np.zeros(count) for name in StarTable.__dataclass_fields__}
    columns |= {
        "x": rng.uniform(50, 5950, count), "y": rng.uniform(50, 3950, count), "flux": 10 ** rng.uniform(3, 5, count),
        "snr": np.full(count, 50.0), "fwhm_px": np.full(count, 3.0), "flags": np.zeros(count, dtype=np.int64),
    }  # fmt: skip
    return StarTable(**columns)


def _read(facts: ExposureFacts) -> float:
    return float(read_frame(facts).data[::500, ::500].mean())


def _plain_medians(values: np.ndarray) -> np.ndarray:
    return np.array([np.median(row[np.isfinite(row)]) if np.isfinite(row).any() else math.nan for row in values])


def _plain_deviations(curves: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return np.abs(curves - _plain_medians(curves)[:, None]), np.array([robust_spread(row) for row in curves])


def _judging(rng: np.random.Generator, count: int, exposures: int) -> str:
    """Judge which stars vary, three that do among them, beside doing it with one call of NumPy for each star's median."""
    flux = 10 ** rng.uniform(3, 5, (count, 1)) * np.linspace(1, 0.8, exposures)
    noisy = flux + rng.normal(0, np.sqrt(flux))
    noisy[:3] *= 1 + 0.1 * np.sin(np.linspace(0, 7, exposures))
    names = [f"s{k}" for k in range(count)]
    ours = _best(lambda: vet_stars(names, noisy, np.sqrt(flux)))
    with (
        mock.patch.object(weighing, "row_medians", _plain_medians),
        mock.patch.object(weighing, "row_deviations", _plain_deviations),
        mock.patch.object(vetting, "row_deviations", _plain_deviations),
    ):
        plain = _best(lambda: vet_stars(names, noisy, np.sqrt(flux)))
    return (
        f"{count} stars in {exposures} exposures, who varies: {ours:.2f} s of a processor, with medians star by star {plain:.2f} "
        f"(ratio {plain / ours:.1f})\n"
    )


def _night(folder: Path, count: int, rng: np.random.Generator) -> str:
    """Measure a night, and read it; returns what is to be told."""
    stars = _table(rng, 3000)
    for k in range(6):
        fitsio.write(f"{folder}/of{k}.fits", rng.normal(1000, 20, (4000, 6000)).astype(np.uint16), header=_HEADER)
    exposures = []
    for k in range(count):
        link = folder / f"light{k:04d}.fits"
        link.hardlink_to(folder / f"of{k % 6}.fits")
        facts = scan_file(str(link))
        assert facts.mid_utc is not None
        exposures.append(replace(facts, mid_utc=facts.mid_utc + timedelta(seconds=12 * k)))
    wcs = Wcs(93.0, 27.0, 3000.0, 2000.0, np.array([[-2.5e-4, 0.0], [0.0, 2.5e-4]]))
    listed = tuple(ListedStar(f"s{k}", "check", x=float(stars.x[k]), y=float(stars.y[k])) for k in range(200))
    paths = [facts.path for facts in exposures]
    pools = PoolKeeper(polite=False)
    context = JobContext(executor=pools.get(), workers=pools.workers)
    # Workers are there, and have what they need.
    list(context.each(_read, exposures[:8], ""))
    began = time.perf_counter()
    list(context.each(_read, exposures, ""))
    reading = time.perf_counter() - began
    given = {
        "reference": Reference(paths[0], stars, wcs), "transforms": dict.fromkeys(paths, Transform.identity()),
        "fwhm": dict.fromkeys(paths, 3.0), "detected": dict.fromkeys(paths, stars),
    }  # fmt: skip
    measure_series(exposures[:8], listed, context, **given)
    began = time.perf_counter()
    rows, outcomes = measure_series(exposures, listed, context, **given)
    measuring = time.perf_counter() - began
    pools.close()
    assert all(outcome.ok for outcome in outcomes) and len(rows) == 200 * count and math.isfinite(rows[-1].bjd_tdb)
    return (
        f"{count} exposures of 24 megapixels, 200 stars each, {context.workers} workers: {measuring:.1f} s; reading alone "
        f"{reading:.1f} s (ratio {measuring / reading:.2f}), {1000 * measuring / count:.0f} ms an exposure\n"
    )


def main() -> None:
    """Print what measuring takes."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--night", type=int, default=0)
    asked = parser.parse_args().night
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        path = str(Path(held) / "light.fits")
        fitsio.write(path, rng.normal(1000, 20, (4000, 6000)).astype(np.uint16), header=_HEADER)
        facts, stars = scan_file(path), _table(rng, 3000)
        listed = tuple(ListedStar(f"s{k}", "check", x=float(stars.x[k]), y=float(stars.y[k])) for k in range(200))
        reference = Reference(path, stars, None)
        task = MeasureTask(
            facts, listed, MeasureOptions(), reference, None, Transform.identity(), 3.0, stars, "light.fits"
        )
        reading = _best(lambda: read_frame(facts))
        plain = _best(lambda: fitsio.read(path).astype(np.float32))
        measuring = _best(lambda: measure_item(task))
    sys.stdout.write(
        f"24 megapixels, 200 stars of 3,000: {1000 * measuring:.0f} ms of a processor, reading alone {1000 * reading:.0f} "
        f"(ratio {measuring / reading:.1f}; fitsio {1000 * plain:.0f})\n"
    )
    if asked:
        with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
            sys.stdout.write(_night(Path(held), asked, rng))
        return
    sys.stdout.write(_judging(rng, 270, 100))
    size = 300
    count = size * size // 60
    x, y, flux = rng.uniform(2, size - 3, count), rng.uniform(2, size - 3, count), 10 ** rng.uniform(2.3, 4.8, count)
    image = star_field(
        rng, width=size, height=size, x=x, y=y, flux_e=flux * 1.5, psf=Psf.with_fwhm(2.6), sky_e=200, read_noise_e=6, gain_e_per_adu=1.5,
    ).astype(np.float32)  # fmt: skip
    found = find_stars(image, gain_e_per_adu=1.5)
    fitting = _best(lambda: measure_profiles(image, x, y, found, inner_px=8, outer_px=16, gain_e_per_adu=1.5))
    sys.stdout.write(f"one star in 60 pixels, {count} stars fitted together: {1000 * fitting:.0f} ms of a processor\n")


if __name__ == "__main__":
    main()
