"""One star or body placed and measured by the profile of its exposure."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F32Array, F64Array, Failed, MaskArray
from ulvar.stars.placing import (
    Fitted,
    Pixels,
    Place,
    covariance_of,
    first_shape,
    patch_about,
    peak_near,
    profile_near,
    settled,
    smoothed,
    take_neighbours_off,
    weighed,
)
from ulvar.stars.table import StarTable

# A fit with this reduced chi-squared and more shows that the profile of the stars is not that of the body.
_MISFIT = 2.0


@dataclass(frozen=True)
class StarFit:
    """A star or a body of one exposure.

    Attributes
    ----------
    x, y, flux : float
        Place [px, 0-based] and light [ADU].
    covariance : float64 array, shape (3, 3)
        Of x, y [px] and flux [ADU].
    chi2 : float
        Reduced; over 1 it has widened the errors.
    fwhm_px : float
    saturated : bool
        Whether it has saturated pixels: they are left away, the wings tell the place.
    own_profile : bool
        Whether stars of the exposure told the profile; else its shape was fitted, too: a body that moved is long.
    """

    x: float
    y: float
    flux: float
    covariance: F64Array
    chi2: float
    fwhm_px: float
    saturated: bool
    own_profile: bool

    @property
    def snr(self) -> float:
        """Light over its error."""
        return self.flux / math.sqrt(self.covariance[2, 2])


def measure_star(
    data: F32Array,
    place: Place,
    *,
    fwhm_px: float,
    reach_px: float | None = None,
    faintest: float = 4.0,
    long: bool = False,
    stars: StarTable | None = None,
    mask: MaskArray | None = None,
    gain_e_per_adu: float | None = None,
    saturation_adu: float | None = None,
) -> StarFit | Failed:
    """Measure the star at about a place by the profile of the exposure's stars (see `measure_pair`).

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified.
    place : (float, float)
        About where it is [px].
    fwhm_px : float
        Of stars in this exposure [px].
    reach_px : float, optional
        How far off it may be [px]; 1.2 FWHM unless given.
    faintest : float
        Less light over its error is none.
    long : bool
        Whether it may have moved during the exposure: where the stars' profile does not fit, a shape of its own is tried.
    stars : StarTable, optional
        Those of the exposure: they tell the profile, and are taken off where they stand near.
    mask, gain_e_per_adu, saturation_adu
        As for `measure_pair`.

    Returns
    -------
    StarFit, or Failed where nothing stands out of the noise
    """
    if not (math.isfinite(fwhm_px) and fwhm_px > 0):
        return Failed("the width of its stars is not known")
    gain = float(gain_e_per_adu) if gain_e_per_adu is not None and gain_e_per_adu > 0 else 0.0
    full = np.inf if saturation_adu is None else saturation_adu
    patch = patch_about(data, (place,), fwhm_px, mask, gain, full)
    if isinstance(patch, Failed):
        return patch
    psf = None if stars is None else profile_near(data, stars, (place,), fwhm_px, mask, gain)
    named = place[0] - patch.left, place[1] - patch.low
    peak = peak_near(smoothed(patch, fwhm_px), named, 1.2 * fwhm_px if reach_px is None else reach_px)
    at = peak[0] + patch.left, peak[1] + patch.low
    if psf is not None and stars is not None:
        # What stands at the peak is what is measured.
        take_neighbours_off(patch, psf, stars, (at,), fwhm_px)
    fits: list[tuple[Fitted, bool]] = []
    for profile in (psf, None) if psf is not None and long else (psf,):
        fit = settled(Pixels.about(patch, np.array(peak), fwhm_px), profile, np.array(peak), first_shape(fwhm_px, profile), fwhm_px)  # fmt: skip
        for _ in range(2):
            if fit is not None:
                fit = settled(weighed(patch, fit, profile, fwhm_px), profile, fit.places, fit.shape, fwhm_px)
        if fit is not None:
            fits.append((fit, profile is not None))
            if fit.chi2 < _MISFIT * fit.free:
                break
    if not fits:
        return Failed("no star is found there")
    # A shape of its own has to better the fit well: it costs four numbers.
    best, own = min(fits, key=lambda one: one[0].chi2 / one[0].free * (1.0 if one[1] else 1.3))
    covariance = covariance_of(best, psf if own else None)
    reduced = best.chi2 / max(best.free, 1)
    if covariance is None:
        return Failed("no star is found there")
    covariance = covariance * max(1.0, reduced)
    flux = float(best.linear[0])
    if not np.isfinite(covariance).all() or flux < faintest * math.sqrt(covariance[2, 2]):
        return Failed("nothing stands out of the noise there")
    ys, xs = np.mgrid[: patch.value.shape[0], : patch.value.shape[1]]
    near = np.hypot(xs - best.places[0], ys - best.places[1]) < fwhm_px
    return StarFit(
        float(best.places[0]) + patch.left, float(best.places[1]) + patch.low, flux, covariance, reduced,
        psf.fwhm_px if own and psf is not None else fwhm_px, bool((patch.saturated & near).any()), own,
    )  # fmt: skip
