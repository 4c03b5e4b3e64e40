"""The noise of a measured flux, term by term."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ulvar.engine import F64Array

# Young's constant [cm^(2/3) s^(1/2)], the correction of it, and the height over which turbulence falls off [m].
_YOUNG, _MORE, _SCALE_HEIGHT_M = 0.09, 1.5, 8000.0


@dataclass(frozen=True)
class NoiseTerms:
    """What the error of a flux is made of; arrays of one shape [ADU], NaN where a term is not known.

    Attributes
    ----------
    source : float64 array
        Photons of the star.
    sky : float64 array
        Pixels of the aperture: sky, dark current, quantisation, and read noise where it is not told apart.
    read : float64 array
        Read noise of the aperture's pixels; NaN where it is not known: it is part of `sky` then.
    level : float64 array
        What the level of the sky is known to.
    filled : float64 array
        Light that stands in for masked pixels.
    flat : float64 array
        Noise of the flat that the exposure was divided by.
    scintillation : float64 array
        Of the air; NaN without aperture, exposure time or airmass: it counts for nothing then.
    """

    source: F64Array
    sky: F64Array
    read: F64Array
    level: F64Array
    filled: F64Array
    flat: F64Array
    scintillation: F64Array

    @property
    def total(self) -> F64Array:
        """The standard error of the flux [ADU]; NaN without a gain, which photons need."""
        rest = (self.read, self.filled, self.flat, self.scintillation)
        variance = self.source**2 + self.sky**2 + self.level**2
        return np.asarray(np.sqrt(variance + sum(np.where(np.isnan(term), 0.0, term) ** 2 for term in rest)))

    def with_scintillation(self, flux: F64Array, share: F64Array | float) -> NoiseTerms:
        """Return the terms with scintillation of a share of the light, see `scintillation`."""
        return replace(self, scintillation=np.abs(flux) * share)


def scintillation(airmass: float, exposure_s: float, aperture_mm: float, height_m: float = 0.0) -> float:
    """Return the standard deviation of a star's relative light by the unrest of the air.

    Parameters
    ----------
    airmass : float
        From 1 on.
    exposure_s : float
        Length of the exposure [s].
    aperture_mm : float
        Diameter of the telescope [mm].
    height_m : float
        Of the site above the sea [m].

    Returns
    -------
    float
        Relative; NaN where something is not known or not possible.

    Notes
    -----
    Young 1967, AJ 72, 747: ``0.09 D^(-2/3) X^1.75 exp(-h / 8000 m) / sqrt(2 t)`` with D in cm and t in s, times 1.5, the median of
    what sites with measured turbulence have over it (Osborn et al. 2015, MNRAS 452, 1707).

    Examples
    --------
    >>> round(scintillation(1.0, 10.0, 250.0), 5)
    0.00353
    """
    if not (airmass >= 1.0 and exposure_s > 0 and aperture_mm > 0 and math.isfinite(height_m)):
        return math.nan
    still = (aperture_mm / 10) ** (-2 / 3) / math.sqrt(2 * exposure_s)
    return _MORE * _YOUNG * still * float(airmass**1.75) * math.exp(-height_m / _SCALE_HEIGHT_M)


def sky_and_read(
    pixels: F64Array, deviation: F64Array, read_noise_e: float | None, gain_e_per_adu: float | None
) -> tuple[F64Array, F64Array]:
    """Return what sky and read noise add to sums over pixels [ADU], told apart where read noise and gain are known.

    Parameters
    ----------
    pixels : float64 array, shape (stars,)
        Sums of squared weights.
    deviation : float64 array, shape (stars,)
        Of one pixel of the annulus, which holds all of it [ADU].
    """
    whole = np.sqrt(pixels) * deviation
    if read_noise_e is None or gain_e_per_adu is None or not (read_noise_e > 0 and gain_e_per_adu > 0):
        return whole, np.full(whole.shape, math.nan)
    with np.errstate(invalid="ignore"):
        # Read noise that is told too high explains all there is, no more.
        read = np.minimum(np.sqrt(pixels) * (read_noise_e / gain_e_per_adu), whole)
        return np.sqrt(whole**2 - read**2), read
