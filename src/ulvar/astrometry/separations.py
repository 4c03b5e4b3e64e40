"""Separation and position angle of two places of a picture, with their errors."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.astrometry.sphere import position_angle_deg, separation_deg
from ulvar.astrometry.wcs import Wcs
from ulvar.engine import F64Array

# Over so small a step a solution is straight [px].
_STEP_PX = 1e-2


@dataclass(frozen=True)
class Separation:
    """How far and in which direction the second place is from the first.

    Attributes
    ----------
    arcsec, arcsec_error : float
        Along the great circle.
    angle_deg, angle_error_deg : float
        Position angle: at the first place, from north over east; ICRS.
    """

    arcsec: float
    arcsec_error: float
    angle_deg: float
    angle_error_deg: float

    @property
    def offset(self) -> tuple[float, float]:
        """The same as parts towards east and north [arcsec]."""
        angle = math.radians(self.angle_deg)
        return self.arcsec * math.sin(angle), self.arcsec * math.cos(angle)

    @property
    def offset_error(self) -> tuple[float, float]:
        """Standard errors of the parts towards east and north [arcsec], by those along and across the separation."""
        angle, across = math.radians(self.angle_deg), self.arcsec * math.radians(self.angle_error_deg)
        along, s, c = self.arcsec_error, math.sin(angle), math.cos(angle)
        return math.hypot(along * s, across * c), math.hypot(along * c, across * s)


def separation_on_sky(wcs: Wcs, places: F64Array, covariance: F64Array | None = None) -> Separation:
    """Return the separation of two places of a solved picture.

    Parameters
    ----------
    wcs : Wcs
        Taken to be exact.
    places : float64 array, shape (4,)
        x1, y1, x2, y2 [px, 0-based].
    covariance : float64 array, shape (4, 4), optional
        Of the places [px^2]; without it there are no errors (NaN).
    """

    def measured(p: F64Array) -> F64Array:
        ra, dec = wcs.sky(p[0::2], p[1::2])
        return np.array(
            [
                3600 * float(separation_deg(ra[0], dec[0], ra[1], dec[1])),
                float(position_angle_deg(ra[0], dec[0], ra[1], dec[1])),
            ]
        )

    arcsec, angle = measured(places)
    if covariance is None:
        return Separation(float(arcsec), math.nan, float(angle), math.nan)
    # A step of a separation close to nothing would lead through it.
    step = min(_STEP_PX, 0.01 * math.dist(places[:2], places[2:])) or _STEP_PX
    slopes = np.empty((2, 4))
    for k in range(4):
        ahead, behind = places.copy(), places.copy()
        ahead[k] += step
        behind[k] -= step
        change = measured(ahead) - measured(behind)
        change[1] = (change[1] + 180) % 360 - 180
        slopes[:, k] = change / (2 * step)
    variance = np.diag(slopes @ covariance @ slopes.T)
    return Separation(float(arcsec), math.sqrt(variance[0]), float(angle), math.sqrt(variance[1]))
