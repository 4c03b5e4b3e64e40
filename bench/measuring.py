"""Measuring: 200 stars in an exposure of 24 megapixels beside reading it alone; profile fits in a crowd.

Usage: measuring.py

The exposure's stars and their places are known, as in a night that was scored. Times are of the processor; the best of four.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import fitsio
import numpy as np

from ulvar.flows import MeasureOptions, MeasureTask, Reference
from ulvar.flows.measure import measure_item
from ulvar.frames import read_frame, scan_file
from ulvar.photometry import ListedStar, measure_profiles
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


def main() -> None:
    """Print what measuring takes."""
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
