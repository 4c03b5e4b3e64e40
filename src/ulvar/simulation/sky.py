"""A made-up sky around the demo field."""

from __future__ import annotations

import csv
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.engine import F64Array, atomic_path

FIELD_RA_DEG = 115.53
FIELD_DEC_DEG = 41.30
TARGET_NAME = "Tarnholt 12"
PULSATOR_NAME = "f"


@dataclass(frozen=True)
class MadeUpSky:
    """Stars of a made-up sky; arrays of shape (stars,), angles [deg], proper motions [mas/yr].

    The first stars are the ones with a part to play; `names` gives theirs, empty for the rest.
    """

    ra: F64Array
    dec: F64Array
    pmra: F64Array
    pmdec: F64Array
    B: F64Array
    V: F64Array
    R: F64Array
    names: tuple[str, ...]

    def index(self, name: str) -> int:
        """Return the row of a named star."""
        return self.names.index(name)

    def write_catalogue(self, path: Path, rng: np.random.Generator, *, faintest: float = 19.0) -> None:
        """Write the catalogue that observers would have: positions with errors, no variability."""
        with atomic_path(path) as temporary, temporary.open("w", newline="") as handle:
            writer = csv.writer(handle)
            writer.writerow(["ra", "dec", "epoch", "pmra", "pmdec", "mag", "B", "V", "R"])
            noise = rng.normal(0.0, 0.01 / 3600, (2, len(self.ra)))
            for i in np.argsort(self.V):
                if self.V[i] > faintest:
                    break
                ra = self.ra[i] + noise[0, i] / math.cos(math.radians(self.dec[i]))
                writer.writerow(
                    [
                        f"{ra:.7f}", f"{self.dec[i] + noise[1, i]:.7f}", "2016.0", f"{self.pmra[i]:.3f}",
                        f"{self.pmdec[i]:.3f}", f"{self.V[i]:.3f}", f"{self.B[i]:.3f}", f"{self.V[i]:.3f}",
                        f"{self.R[i]:.3f}",
                    ]
                )  # fmt: skip


# name, offset east and north of the field centre [arcsec], V magnitude
_CAST = (
    (TARGET_NAME, -20.0, 15.0, 11.93),
    ("a", 288.0, 170.0, 12.31),
    ("b", 126.0, -205.0, 12.62),
    ("c", -198.0, 214.0, 12.24),
    ("d", -271.0, -160.0, 12.81),
    ("e", -100.0, -310.0, 13.08),
    (PULSATOR_NAME, -350.0, 62.0, 12.39),
    ("k1", 171.0, 66.0, 12.52),
    ("double A", 60.0, 290.0, 12.9),
    ("double B", 63.1, 293.4, 13.6),
    ("unseen", 40.0, -90.0, 20.3),
)


def make_sky(rng: np.random.Generator, *, side_deg: float = 1.2, stars: int = 5200) -> MadeUpSky:
    """Return a made-up sky of `stars` stars in a square of `side_deg` around the demo field.

    Counts rise by a factor 10^0.26 a magnitude, about as a field well off the Milky Way does. Stars near
    those of the cast are moved away, so that each has a clean sky ring, but for the double.
    """
    faint, bright, slope = 19.5, 10.3, 0.26
    uniform = rng.random(stars)
    low, high = 10 ** (slope * bright), 10 ** (slope * faint)
    V = np.log10(low + uniform * (high - low)) / slope
    east = rng.uniform(-side_deg / 2, side_deg / 2, stars) * 3600
    north = rng.uniform(-side_deg / 2, side_deg / 2, stars) * 3600
    for _, x, y, _ in _CAST:
        for _ in range(3):
            near = (np.hypot(east - x, north - y) < 27) & (V < 18.5)
            east[near] += 61
    cast_east = np.array([entry[1] for entry in _CAST])
    cast_north = np.array([entry[2] for entry in _CAST])
    V = np.concatenate([[entry[3] for entry in _CAST], V])
    east, north = np.concatenate([cast_east, east]), np.concatenate([cast_north, north])
    dec = FIELD_DEC_DEG + north / 3600
    ra = FIELD_RA_DEG + east / 3600 / np.cos(np.radians(dec))
    colour = rng.normal(0.75, 0.25, len(V)).clip(0.0, 1.8)
    motion = rng.normal(0.0, 6.0, (2, len(V)))
    return MadeUpSky(
        ra=ra, dec=dec, pmra=motion[0], pmdec=motion[1], B=V + colour, V=V, R=V - 0.55 * colour,
        names=tuple(entry[0] for entry in _CAST) + ("",) * stars,
    )  # fmt: skip
