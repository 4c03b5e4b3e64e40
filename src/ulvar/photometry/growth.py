"""How much of a star's light an aperture of each size holds, what its noise is then, and which size that speaks for."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.frames import Frame, difference_noise
from ulvar.photometry.aperture import measure_apertures
from ulvar.photometry.neighbours import Neighbours
from ulvar.stars import StarFlag, StarTable

# Radii that are tried [FWHM].
RADII_FWHM = np.round(np.geomspace(0.4, 4.0, 25), 3)
# The sky is taken from here on [FWHM]: beyond all radii.
_INNER_FWHM, _OUTER_FWHM = 5.0, 8.0
# Of a star's light this much may fall into the annulus.
_LOST = 0.003
# In the worst seeing the aperture holds so much of the light at least: less, and small changes of its shape show.
_LEAST_SHARE = 0.7
# A target of less light over its noise is not seen.
_SEEN = 3.0
_USELESS = int(StarFlag.SATURATED | StarFlag.EDGE | StarFlag.BAD_PIXEL | StarFlag.LOST)


@dataclass(frozen=True)
class Growth:
    """Light and noise over the radius in one exposure.

    Attributes
    ----------
    file : str
    fwhm_px : float
    radius_px : float64 array, shape (radii,)
    share : float64 array, shape (radii,)
        Of the light within the largest radius: the median of bright clean stars.
    snr : float64 array, shape (radii,)
        Of the first star; without a gain, on the scale of its largest value, by its pixels' noise alone.
    neighbour_px : float
        Distance of the nearest other star that lends the first one light; infinite without one.
    """

    file: str
    fwhm_px: float
    radius_px: F64Array
    share: F64Array
    snr: F64Array
    neighbour_px: float


@dataclass(frozen=True)
class ApertureProposal:
    """An aperture for a series.

    Attributes
    ----------
    radius_fwhm : float
        Of each exposure's FWHM.
    inner_px, outer_px : float
        Annulus [px].
    loss : float
        What the target's signal-to-noise ratio loses at most by having one multiple of the FWHM for all exposures.
    why : tuple of str
        What decided, in words.
    """

    radius_fwhm: float
    inner_px: float
    outer_px: float
    loss: float
    why: tuple[str, ...]


def measure_growth(
    frame: Frame, x: F64Array, y: F64Array, stars: StarTable, fwhm_px: float, *, file: str = ""
) -> Growth:
    """Measure stars in apertures from 0.4 to 4 FWHM.

    Parameters
    ----------
    frame : Frame
    x, y : float64 array, shape (stars,)
        Places [px]; the first one is that whose signal-to-noise ratio counts.
    stars : StarTable
        All of the exposure: the sky leaves them out, and the brightest tell the growth, too.
    fwhm_px : float
        [px]

    Raises
    ------
    ValueError
        Without a FWHM, or where no star tells the growth.
    """
    if not (math.isfinite(fwhm_px) and fwhm_px > 0):
        raise ValueError("the width of its stars is not known")
    data = frame.above_pedestal()
    neighbours = Neighbours.of(stars, fwhm_px, difference_noise(data[:: max(1, data.shape[0] // 200)]))
    bright = _lone_bright(stars, fwhm_px)
    places_x, places_y = np.r_[x, stars.x[bright]], np.r_[y, stars.y[bright]]
    gain = frame.facts.gain_e_per_adu
    flux, error, flags = [], [], np.zeros(len(places_x), dtype=np.int64)
    for radius in RADII_FWHM * fwhm_px:
        found = measure_apertures(
            data, places_x, places_y, radius_px=float(radius), inner_px=_INNER_FWHM * fwhm_px, outer_px=_OUTER_FWHM * fwhm_px,
            mask=frame.mask, gain_e_per_adu=gain, neighbours=neighbours, noise_correlation=frame.facts.noise_correlation or 1.0,
        )  # fmt: skip
        flux.append(found.flux)
        error.append(found.flux_error if gain else np.hypot(found.terms.sky, found.terms.level))
        flags |= found.flags
    light, noise = np.array(flux), np.array(error)
    whole = light[-1]
    telling = np.arange(len(whole)) >= len(x)
    telling &= np.isfinite(light).all(axis=0) & (whole > 0) & ((flags & _USELESS) == 0)
    if not telling.any():
        raise ValueError("no bright star stands alone in it")
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.median(light[:, telling] / whole[telling], axis=1)
        snr = light[:, 0] / noise[:, 0] if len(x) else np.full(len(light), math.nan)
    return Growth(file, fwhm_px, RADII_FWHM * fwhm_px, share, snr, _nearest(x, y, whole, stars, neighbours.own_px))


def _lone_bright(stars: StarTable, fwhm_px: float) -> np.ndarray:
    """Return bright clean stars without others near them."""
    from scipy.spatial import cKDTree

    if not len(stars):
        return np.empty(0, dtype=np.int64)
    order = np.flatnonzero(((stars.flags & _USELESS) == 0) & (stars.snr > 50))[:200]
    tree = cKDTree(np.column_stack([stars.x, stars.y]))
    alone = []
    for k in order:
        near = [j for j in tree.query_ball_point((stars.x[k], stars.y[k]), _INNER_FWHM * fwhm_px) if j != k]
        if not near or stars.flux[near].sum() < 0.01 * stars.flux[k]:
            alone.append(int(k))
        if len(alone) == 20:
            break
    return np.array(alone, dtype=np.int64)


def _nearest(x: F64Array, y: F64Array, flux: F64Array, stars: StarTable, own_px: float) -> float:
    """Return how near another star is to the first place, that has two per cent of its light or more."""
    if not len(x) or not len(stars):
        return math.inf
    away = np.hypot(stars.x - x[0], stars.y - y[0])
    other = (away > own_px) & (stars.flux > 0.02 * max(float(np.nan_to_num(flux[0])), 0.0))
    return float(away[other].min()) if other.any() else math.inf


def propose_aperture(growths: Sequence[Growth]) -> ApertureProposal:
    """Return the aperture that suits all exposures: one multiple of the FWHM, one annulus.

    The radius is that at which the target's signal-to-noise ratio, over the best it could have, is highest in the exposure where it is
    lowest. It holds seven tenths of the light in each, and stays away from a neighbour. The annulus begins where less than three
    thousandths of the light are beyond, in the worst of them.

    Parameters
    ----------
    growths : sequence of Growth
        Of the best, a typical and the worst seeing.

    Raises
    ------
    ValueError
        Without any.
    """
    if not growths:
        raise ValueError("no exposure tells how the light grows")
    relative = np.array([_relative(g.snr) for g in growths])
    enough = np.all([g.share >= _LEAST_SHARE for g in growths], axis=0)
    free = np.all([g.radius_px + 0.5 * g.fwhm_px < g.neighbour_px for g in growths], axis=0)
    why: list[str] = []
    worst = relative.min(axis=0)
    allowed = enough & free
    if not allowed.any():
        allowed = enough if enough.any() else np.ones(len(worst), dtype=bool)
        why.append("a neighbour lies so near that its light cannot be kept out")
    best = int(np.argmax(np.where(allowed, worst, -1.0)))
    radius = float(RADII_FWHM[best])
    seen = any(np.isfinite(g.snr).any() and np.nanmax(g.snr) > _SEEN for g in growths)
    if not seen:
        why.insert(0, "the target is not seen in them: this holds most of its light with little sky")
    else:
        why.insert(0, f"the target's SNR is within {100 * (1 - worst[best]):.0f} % of the best in every exposure")
    alone = int(np.argmax(np.where(enough, worst, -1.0)))
    if free.any() and alone != best and not free[alone]:
        why.append(f"{RADII_FWHM[alone]:g} FWHM would be better, but for a neighbour")
    if best == int(np.argmax(enough)) and np.argmax(worst) < best:
        why.append(f"a smaller one would hold less than {100 * _LEAST_SHARE:.0f} % of the light in the worst seeing")
    widest = max(radius * g.fwhm_px for g in growths)
    inner = max(widest + 2.0, *(_settled(g) for g in growths))
    # An annulus of six times the aperture's area adds a tenth to the noise of the sky in it.
    outer = max(math.sqrt(inner**2 + 6 * widest**2), inner + 4)
    return ApertureProposal(round(radius, 2), round(inner, 1), round(outer, 1), float(1 - worst[best]), tuple(why))


def _relative(snr: F64Array) -> F64Array:
    top = float(np.nanmax(snr)) if np.isfinite(snr).any() else math.nan
    # A target that is not seen in an exposure says nothing there.
    if not top > _SEEN:
        return np.ones(len(snr))
    return np.asarray(np.nan_to_num(snr / top))


def _settled(growth: Growth) -> float:
    """Return the radius beyond which next to nothing of the light is left [px]."""
    beyond = np.flatnonzero(growth.share < 1 - _LOST)
    return (
        float(growth.radius_px[min(int(beyond[-1]) + 1, len(growth.share) - 1)])
        if len(beyond)
        else float(growth.radius_px[0])
    )
