"""The zero point of a picture: the magnitude of a star that gives it one ADU."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.frames.noise import robust_spread

# Fewer stars tell no zero point.
LEAST_STARS = 5
_CLIP = 3.0


@dataclass(frozen=True)
class ZeroPoint:
    """A zero point.

    Attributes
    ----------
    magnitude : float
        Of one ADU of light.
    error : float
        Of the median [mag], by the spread of the stars.
    stars : int
        That were used.
    """

    magnitude: float
    error: float
    stars: int


def zero_point(flux: F64Array, magnitude: F64Array) -> ZeroPoint | None:
    """Return the zero point that stars of known magnitude tell, None where fewer than `LEAST_STARS` agree.

    Parameters
    ----------
    flux : float64 array, shape (stars,)
        Light of each [ADU]; what is not over 0 counts for nothing.
    magnitude : float64 array, shape (stars,)
        By the catalogue; NaN where it is not known.
    """
    good = np.isfinite(flux) & np.isfinite(magnitude) & (flux > 0)
    told = magnitude[good] + 2.5 * np.log10(flux[good])
    # Variable stars, blends and wrong pairs lie far from the rest.
    for _ in range(10):
        if len(told) < LEAST_STARS:
            return None
        inside = np.abs(told - np.median(told)) <= _CLIP * robust_spread(told) + 1e-9
        if inside.all():
            break
        told = told[inside]
    # A median's error is 1.25 times that of a mean (of a normal distribution: the root of pi / 2).
    error = math.sqrt(math.pi / 2) * robust_spread(told) / math.sqrt(len(told))
    return ZeroPoint(float(np.median(told)), error, len(told))
