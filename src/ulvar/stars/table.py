"""The star table: its columns are declared once, here; files, docs and the window read this schema."""

from __future__ import annotations

from dataclasses import dataclass, fields
from enum import IntFlag
from typing import Any

import numpy as np

from ulvar.engine import F64Array


class StarFlag(IntFlag):
    """Doubts about a measurement (words in text tables, joined by ``|``)."""

    SATURATED = 1
    NONLINEAR = 2
    EDGE = 4
    BAD_PIXEL = 8
    NEIGHBOUR = 16
    LOST = 32
    LEFT_OUT = 64
    DOUBLED = 128


def flag_words(flags: int) -> str:
    """Return the words of a flag value, joined by ``|``; empty when clean."""
    return "|".join(flag.name.lower() for flag in StarFlag if flags & flag and flag.name)


# name, unit, decimals, meaning
STAR_COLUMNS = (
    ("x", "px", 4, "centroid along NAXIS1, 0-based, integer at pixel centres"),
    ("y", "px", 4, "centroid along NAXIS2"),
    ("flux", "ADU", 3, "total flux from the fit of the exposure's own profile"),
    ("flux_error", "ADU", 3, "its standard error: sky and read noise, source noise when the gain is known"),
    ("snr", "", 2, "flux over its error"),
    ("fwhm_px", "px", 4, "full width at half maximum as recorded, from second moments"),
    ("fwhm_fit_px", "px", 4, "the same from a fit of the profile's size"),
    ("ellipticity", "", 4, "1 - b/a from second moments"),
    ("angle_deg", "deg", 1, "of the long axis, from +x to +y"),
    ("peak", "ADU", 1, "highest pixel over the background"),
    ("flags", "", 0, "words joined by |"),
)


@dataclass(frozen=True)
class StarTable:
    """Stars found in one exposure, brightest first.

    Attributes are arrays of shape (stars,), as `STAR_COLUMNS` declares; `flags` holds `StarFlag` bits.
    """

    x: F64Array
    y: F64Array
    flux: F64Array
    flux_error: F64Array
    snr: F64Array
    fwhm_px: F64Array
    fwhm_fit_px: F64Array
    ellipticity: F64Array
    angle_deg: F64Array
    peak: F64Array
    flags: np.ndarray

    def __len__(self) -> int:
        return len(self.x)

    def select(self, which: np.ndarray) -> StarTable:
        """Return the stars that `which` (mask or indices) picks."""
        return StarTable(**{f.name: getattr(self, f.name)[which] for f in fields(self)})

    def nearest(self, x: float, y: float, within_px: float) -> int | None:
        """Return the index of the star next to a place; None where none is so near, or the place is nowhere (NaN)."""
        away = np.hypot(self.x - x, self.y - y)
        if not len(away):
            return None
        k = int(np.argmin(away))
        return k if away[k] <= within_px else None

    @classmethod
    def empty(cls) -> StarTable:
        """Return a table without stars."""
        columns: dict[str, Any] = {f.name: np.empty(0) for f in fields(cls)}
        columns["flags"] = np.empty(0, dtype=np.int64)
        return cls(**columns)
