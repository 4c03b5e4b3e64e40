"""A small night of two fields in three filters, interleaved; every B exposure is turned upside down."""

from collections.abc import Callable

import numpy as np

from ulvar.simulation import Psf, star_field

WIDTH, HEIGHT, GAIN = 320, 220, 1.5
FIELDS = {"West Field": (30.0, 10.0), "East Field": (60.0, 10.0)}
# How bright stars are in a filter, and how its exposures lie: every B exposure is turned upside down.
BANDS = {"V": 1.0, "B": 0.6, "R": 1.4}
PER_SERIES = 4


def interleaved(write: Callable[..., object]) -> dict[str, np.ndarray]:
    """Write the night by `write`, which takes name, pixels and cards; returns the stars (x, y, electrons) of each field."""
    rng = np.random.default_rng(21)
    skies, number = {}, 0
    for name in FIELDS:
        skies[name] = np.column_stack(
            [rng.uniform(25, WIDTH - 25, 45), rng.uniform(25, HEIGHT - 25, 45), 10 ** rng.uniform(3.9, 5.0, 45)]
        )
    for name, (ra, dec) in FIELDS.items():
        for i in range(PER_SERIES):
            for band, factor in BANDS.items():
                x, y = skies[name][:, 0] + 0.7 * i, skies[name][:, 1] - 0.4 * i
                if band == "B":
                    x, y = WIDTH - 1 - x, HEIGHT - 1 - y
                image = star_field(
                    rng, width=WIDTH, height=HEIGHT, x=x, y=y, flux_e=factor * skies[name][:, 2],
                    psf=Psf.with_fwhm(3.0), sky_e=200.0, read_noise_e=4.0,
                )  # fmt: skip
                write(
                    f"raw/{number:03}.fits", np.round(image / GAIN).clip(0).astype(np.uint16), IMAGETYP="Light", EXPTIME=30.0,
                    FILTER=band, OBJECT=name, RA=ra, DEC=dec, EGAIN=GAIN, RDNOISE=4.0,
                    DATE_OBS=f"2027-02-11T2{number // 60}:{number % 60:02}:00",
                )  # fmt: skip
                number += 1
    return skies
