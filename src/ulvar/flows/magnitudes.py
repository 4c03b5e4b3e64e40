"""Catalogue stars in a picture whose place on the sky is known: its zero point and limit, and what is white."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.astrometry import StarCatalogue, Wcs
from ulvar.engine import F32Array, F64Array
from ulvar.frames import ExposureFacts, robust_spread
from ulvar.lightcurves import julian_year
from ulvar.photometry import ZeroPoint, measure_apertures, zero_point

# Bands that stand for a filter, the best first, in small letters; what a catalogue sorts by stands for all else.
_BANDS = {
    "u": ("u",), "b": ("b", "bp", "g"), "v": ("v", "g", "r"), "r": ("r", "rc", "rp", "v"), "i": ("i", "ic", "rp"),
    "g": ("g", "v"), "z": ("z", "i"),
}  # fmt: skip
_FILTERS = {
    "red": "r",
    "rc": "r",
    "green": "v",
    "blue": "b",
    "ic": "i",
    "lum": "v",
    "luminance": "v",
    "l": "v",
    "clear": "v",
}
# Colour indices, the best first, and what a star like the Sun has in each.
_INDICES = ((("b", "v"), 0.65), (("bp", "rp"), 0.82), (("g", "r"), 0.44), (("v", "r"), 0.36), (("b", "r"), 1.01))
# Stars that are measured: so many, the brightest first; alone within so many FWHM but for stars this much fainter [mag].
_MOST, _ALONE_FWHM, _FAINTER = 400, 4.0, 4.0
# A star's light lies within so many FWHM of its place; what is measured stands out by at least so much.
_RADIUS_FWHM, _LEAST_SNR = 2.5, 10.0


@dataclass(frozen=True)
class CatalogueStars:
    """Catalogue stars that stand alone in a picture.

    Attributes
    ----------
    x, y : float64 array, shape (stars,)
        Their places [px].
    catalogue : StarCatalogue
        The same stars.
    """

    x: F64Array
    y: F64Array
    catalogue: StarCatalogue


@dataclass(frozen=True)
class Depth:
    """How deep a picture is.

    Attributes
    ----------
    band : str
        Of the catalogue; ``mag`` for what it sorts by.
    zero : ZeroPoint
    limit_mag : float
        Of a star that stands out by five deviations.
    """

    band: str
    zero: ZeroPoint
    limit_mag: float


def band_of(filter_name: str, catalogue: StarCatalogue) -> str:
    """Return the catalogue's band that stands for a filter; empty where only what it sorts by does."""
    folded = {name.lower(): name for name in reversed(catalogue.bands)}
    plain = filter_name.strip().lower().rstrip("'")
    wanted = _BANDS.get(_FILTERS.get(plain, plain), (plain,))
    return next((folded[name] for name in wanted if name in folded), "")


def magnitudes_in(band: str, catalogue: StarCatalogue) -> F64Array:
    """Return the magnitudes of a band, or those that the catalogue sorts by."""
    return catalogue.bands[band] if band else catalogue.mag


def stars_alone(facts: ExposureFacts, wcs: Wcs, catalogue: StarCatalogue, fwhm_px: float) -> CatalogueStars:
    """Return the brightest catalogue stars in a picture that no other one blends with.

    Parameters
    ----------
    facts : ExposureFacts
        Of the picture: its size, and its time for proper motions.
    wcs : Wcs
    catalogue : StarCatalogue
    fwhm_px : float
    """
    from scipy.spatial import cKDTree

    ra, dec = (float(v) for v in wcs.sky((facts.width - 1) / 2, (facts.height - 1) / 2))
    reach = 1.05 * math.hypot(facts.width, facts.height) / 2 * wcs.scale_arcsec_px / 3600
    near = catalogue.cone(ra, dec, reach)
    if facts.mid_utc is not None:
        near = near.at_epoch(julian_year(facts.mid_utc))
    x, y = wcs.pixel(near.ra, near.dec)
    edge = 3 * _RADIUS_FWHM * fwhm_px
    inside = (x > edge) & (x < facts.width - 1 - edge) & (y > edge) & (y < facts.height - 1 - edge)
    there = np.isfinite(x) & np.isfinite(y)
    tree = cKDTree(np.column_stack([x[there], y[there]]))
    brightness = near.mag[there]
    chosen: list[int] = []
    # The cone comes brightest first.
    for k in np.flatnonzero(inside & there):
        others = tree.query_ball_point((x[k], y[k]), _ALONE_FWHM * fwhm_px)
        blended = [n for n in others if not brightness[n] > near.mag[k] + _FAINTER]
        if len(blended) <= 1:
            chosen.append(int(k))
        if len(chosen) >= _MOST:
            break
    which = np.array(chosen, dtype=np.int64)
    return CatalogueStars(x[which], y[which], near.select(which))


def light_of(data: F32Array, stars: CatalogueStars, fwhm_px: float, saturation_adu: float | None = None) -> F64Array:
    """Return the light of catalogue stars in a picture [ADU]; NaN for what is faint, saturated or partly unknown."""
    radius = _RADIUS_FWHM * fwhm_px
    # Of so large a gain the error is that of the sky alone.
    found = measure_apertures(
        data, stars.x, stars.y, radius_px=radius, inner_px=1.6 * radius, outer_px=2.6 * radius, gain_e_per_adu=1e12
    )
    good = (found.flux > _LEAST_SNR * found.flux_error) & (found.flags == 0)
    if saturation_adu is not None:
        good &= found.peak < 0.9 * saturation_adu
    return np.where(good, found.flux, np.nan)


def depth_of(
    data: F32Array, facts: ExposureFacts, wcs: Wcs, catalogue: StarCatalogue, *, fwhm_px: float, faintest_adu: float
) -> Depth | None:
    """Return the zero point of a picture and the magnitude that it reaches, None where too few stars tell it.

    Parameters
    ----------
    data : float32 array, shape (height, width)
    facts : ExposureFacts
    wcs : Wcs
    catalogue : StarCatalogue
        With the picture's band, if it has it.
    fwhm_px : float
    faintest_adu : float
        Light of a star that stands out by five deviations.
    """
    stars = stars_alone(facts, wcs, catalogue, fwhm_px)
    if not len(stars.x) or not faintest_adu > 0:
        return None
    band = band_of(facts.filter, catalogue)
    zero = zero_point(light_of(data, stars, fwhm_px, facts.saturation_adu), magnitudes_in(band, stars.catalogue))
    if zero is None:
        return None
    return Depth(band or "mag", zero, zero.magnitude - 2.5 * math.log10(faintest_adu))


def depth_cards(depth: Depth | None) -> list[tuple[str, Any, str]]:
    """Return what a header tells of a picture's depth; without one it tells nothing any more."""
    if depth is None:
        return [("MAGZERO", None, ""), ("MAGZERR", None, ""), ("MAGLIM", None, "")]
    return [
        ("MAGZERO", round(depth.zero.magnitude, 4), f"[mag] of 1 adu, band {depth.band}"),
        ("MAGZERR", round(depth.zero.error, 4), f"[mag] by {depth.zero.stars} stars"),
        ("MAGLIM", round(depth.limit_mag, 3), "[mag] of a star at SNR 5"),
    ]


def colour_index(catalogue: StarCatalogue) -> tuple[F64Array, float, str] | None:
    """Return the stars' colour index, that of a star like the Sun, and its name; None where the catalogue has no two bands."""
    folded = {name.lower(): name for name in reversed(catalogue.bands)}
    for (blue, red), sun in _INDICES:
        if blue in folded and red in folded:
            values = catalogue.bands[folded[blue]] - catalogue.bands[folded[red]]
            if np.isfinite(values).sum() >= 5:
                return values, sun, f"{folded[blue]} - {folded[red]}"
    return None


def white_by_colours(light: Mapping[str, F64Array], index: F64Array, white: float) -> tuple[F64Array, int]:
    """Return what red, green and blue are multiplied with for stars of a colour index to be white, and of how many stars.

    Parameters
    ----------
    light : mapping of str to float64 array, shape (stars,)
        In ``red``, ``green`` and ``blue``; NaN counts for nothing.
    index : float64 array, shape (stars,)
        Colour index of each [mag].
    white : float
        That of what is to be white [mag].

    Notes
    -----
    The logarithm of each ratio of two channels is a straight line over the colour index, fitted with outliers left out; its value
    at white is the factor. All are 1, of no stars, where fewer than five tell it.
    """
    names = ("red", "green", "blue")
    good = np.isfinite(index) & np.all([np.isfinite(light[n]) & (light[n] > 0) for n in names], axis=0)
    if good.sum() < 5:
        return np.ones(3), 0
    at = index[good] - white
    factors, used = np.ones(3), 0
    for k, name in ((0, "red"), (2, "blue")):
        ratio = np.log(light["green"][good] / light[name][good])
        keep = np.ones(len(at), dtype=bool)
        for _ in range(10):
            # Stars of one colour alone tell no slope.
            degree = 1 if np.ptp(at[keep]) > 0.2 and keep.sum() > 5 else 0
            fitted = np.polynomial.Polynomial.fit(at[keep], ratio[keep], degree)
            residual = ratio - fitted(at)
            spread = robust_spread(residual[keep], about=0.0)
            new = np.abs(residual) <= 3 * spread + 1e-9
            if (new == keep).all() or new.sum() < 5:
                break
            keep = new
        factors[k], used = math.exp(float(fitted(0.0))), int(keep.sum())
    return factors, used
