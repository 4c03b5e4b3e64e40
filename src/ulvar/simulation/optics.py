"""Where light falls: gnomonic projection, distortion, and the pixel-integrated point-spread function.

Written independently of `ulvar.astrometry`, so that the two can check each other.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq
from scipy.special import erf

from ulvar.engine import F64Array


@dataclass(frozen=True)
class Pointing:
    """Camera on the sky.

    Attributes
    ----------
    ra_deg, dec_deg : float
        Sky position of the frame's centre [deg].
    scale_arcsec_px : float
    rotation_deg : float
        Position angle of +y, east of north [deg].
    width, height : int
    mirrored : bool
        True when east is to the right with north up.
    distortion_px : float
        Radial displacement in the corner [px]; grows with the cube of the distance from the centre.
    """

    ra_deg: float
    dec_deg: float
    scale_arcsec_px: float
    rotation_deg: float
    width: int
    height: int
    mirrored: bool = False
    distortion_px: float = 0.0

    @property
    def centre(self) -> tuple[float, float]:
        """Pixel of the projection's centre."""
        return (self.width - 1) / 2, (self.height - 1) / 2

    def pixels(self, ra_deg: F64Array, dec_deg: F64Array) -> tuple[F64Array, F64Array]:
        """Return x, y [px] of sky positions [deg]; NaN for the far hemisphere."""
        ra, dec = np.radians(ra_deg), np.radians(dec_deg)
        ra0, dec0 = math.radians(self.ra_deg), math.radians(self.dec_deg)
        cosine = math.sin(dec0) * np.sin(dec) + math.cos(dec0) * np.cos(dec) * np.cos(ra - ra0)
        with np.errstate(divide="ignore", invalid="ignore"):
            xi = np.cos(dec) * np.sin(ra - ra0) / cosine
            eta = (math.cos(dec0) * np.sin(dec) - math.sin(dec0) * np.cos(dec) * np.cos(ra - ra0)) / cosine
        scale = math.radians(self.scale_arcsec_px / 3600)
        angle = math.radians(self.rotation_deg)
        hand = 1.0 if self.mirrored else -1.0
        dx = hand * (math.cos(angle) * xi - math.sin(angle) * eta) / scale
        dy = (math.sin(angle) * xi + math.cos(angle) * eta) / scale
        cx, cy = self.centre
        corner = math.hypot(cx, cy)
        swell = 1 + self.distortion_px / corner**3 * (dx**2 + dy**2)
        far = cosine <= 0
        return np.where(far, np.nan, cx + dx * swell), np.where(far, np.nan, cy + dy * swell)


@dataclass(frozen=True)
class Psf:
    """Two concentric Gaussians: a core and wings, integrated exactly over pixels.

    Attributes
    ----------
    sigma_px : float
        Of the core.
    wing_fraction, wing_ratio : float
        Light in the wings, and their sigma over the core's.
    """

    sigma_px: float
    wing_fraction: float = 0.12
    wing_ratio: float = 2.1

    @classmethod
    def with_fwhm(cls, fwhm_px: float, wing_fraction: float = 0.12, wing_ratio: float = 2.1) -> Psf:
        """Return the PSF whose FWHM *as recorded* is `fwhm_px`."""
        sigma = brentq(lambda s: recorded_fwhm(cls(s, wing_fraction, wing_ratio)) - fwhm_px, 0.05, fwhm_px, xtol=1e-6)
        return cls(float(sigma), wing_fraction, wing_ratio)

    @property
    def parts(self) -> tuple[tuple[float, float], ...]:
        """(fraction, sigma px) of each Gaussian."""
        if self.wing_fraction == 0:
            return ((1.0, self.sigma_px),)
        return (1 - self.wing_fraction, self.sigma_px), (self.wing_fraction, self.sigma_px * self.wing_ratio)


def recorded_fwhm(psf: Psf) -> float:
    """FWHM [px] of the profile after integration over pixels, along a row through the centre."""

    def profile(x: float) -> float:
        total = 0.0
        for fraction, sigma in psf.parts:
            across = erf(0.5 / (sigma * math.sqrt(2)))
            along = 0.5 * (erf((x + 0.5) / (sigma * math.sqrt(2))) - erf((x - 0.5) / (sigma * math.sqrt(2))))
            total += fraction * across * along
        return float(total)

    top = profile(0.0)
    return 2 * float(brentq(lambda x: profile(x) - top / 2, 0.0, 12 * psf.sigma_px + 2))
