"""Made-up exposures of a colour sensor."""

from pathlib import Path

import fitsio
import numpy as np

from ulvar.simulation import Psf, star_field

CELL = "RGGB"
# Sky and sensitivity of the bands: moonless sky that is reddish, a sensor that is most sensitive to green.
SKY = {"R": 900.0, "G": 1100.0, "B": 500.0}
SENSITIVITY = {"R": 0.7, "G": 1.0, "B": 0.5}


def colour_frame(
    rng: np.random.Generator,
    width: int = 600,
    height: int = 400,
    stars: int = 120,
    *,
    faintest: float = 4.0,
    at: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
) -> dict:
    """Return what a colour sensor sees: stars anywhere, or white ones `at` x, y with their fluxes in green.

    Returns
    -------
    dict
        ``mosaic`` (float array), ``x``, ``y``, ``flux`` (in green) of the stars, and ``colour``: light in red over light in blue of each, before
        the sensor; their mean is one.
    """
    x, y = rng.uniform(20, width - 20, stars), rng.uniform(20, height - 20, stars)
    flux = 10 ** rng.uniform(faintest, 5.6, stars)
    colour = 10 ** rng.normal(0.0, 0.15, stars)
    # A red star and a blue one, brighter than all, whose hues are to be seen.
    flux[:2], colour[:2] = 8e5, (3.0, 1 / 3.0)
    if at is not None:
        (x, y, flux), colour = at, np.ones(stars)
    psf = Psf.with_fwhm(4.0)
    mosaic = np.zeros((height, width))
    for k, band in enumerate(CELL):
        share = {"R": np.sqrt(colour), "G": np.ones(stars), "B": 1 / np.sqrt(colour)}[band]
        seen = star_field(
            rng, width=width, height=height, x=x, y=y, flux_e=flux * share * SENSITIVITY[band], psf=psf, sky_e=SKY[band]
        )
        mosaic[k // 2 :: 2, k % 2 :: 2] = seen[k // 2 :: 2, k % 2 :: 2]
    return {"mosaic": mosaic, "x": x, "y": y, "flux": flux, "colour": colour}


def write_mosaics(folder: Path, count: int = 3) -> dict:
    """Write lights of a colour sensor; returns what the first shows."""
    folder.mkdir(parents=True, exist_ok=True)
    first: dict = {}
    for i in range(count):
        frame = colour_frame(np.random.default_rng(5))
        first = first or frame
        write_mosaic(folder / f"colour{i}.fits", frame["mosaic"], i)
    return first


def write_mosaic(path: Path, mosaic: np.ndarray, minute: int) -> None:
    """Write a light of a colour sensor."""
    cards = [
        {"name": "IMAGETYP", "value": "Light Frame"}, {"name": "EXPTIME", "value": 60.0},
        {"name": "DATE-OBS", "value": f"2027-02-11T20:{minute:02d}:00"}, {"name": "BAYERPAT", "value": CELL},
        {"name": "OBJECT", "value": "Made-up field"}, {"name": "GAIN", "value": 100.0},
    ]  # fmt: skip
    fitsio.write(str(path), np.clip(mosaic, 0, 65535).astype(np.uint16), header=cards, clobber=True)
