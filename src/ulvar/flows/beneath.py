"""What stands under a light curve, on the same axis: further stars of its table, and the curves of other series of its field."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, true_minus
from ulvar.lightcurves import LightCurve
from ulvar.photometry import SeriesTable

# Stars under a curve stand so far below what is above them [mag].
_APART = 0.04


@dataclass(frozen=True)
class ShownStar:
    """How a further star is drawn: shifted [mag], None for as far as it needs; its deviations from its median so many times as large."""

    shift_mag: float | None = None
    times: float = 1.0


@dataclass(frozen=True)
class Beneath:
    """Points under a light curve.

    Attributes
    ----------
    name : str
        Of the star or the filter.
    told : str
        The name, and by what it is shifted and enlarged.
    curve : LightCurve
        Whose times they have.
    magnitude : float64 array, shape (points,)
        As they are drawn [mag].
    magnitude_error : float64 array, shape (points,), or None
        [mag]
    """

    name: str
    told: str
    curve: LightCurve
    magnitude: F64Array
    magnitude_error: F64Array | None = None


def _told(name: str, shift: float, times: float = 1.0) -> str:
    larger = "" if times == 1.0 else f", {times:g} times as large"
    return true_minus(f"{name}, shifted by {shift:+.2f} mag{larger}")


def other_series(own: F64Array, others: Sequence[tuple[str, LightCurve]], apart: float | None = None) -> list[Beneath]:
    """Return the curves of other series, each so far under what is above it as it needs, or by the number of magnitudes that is named.

    Parameters
    ----------
    own : float64 array, shape (points,)
        What they stand under [mag].
    others : sequence of (name, LightCurve)
    apart : float, optional
        From middle to middle [mag].
    """
    middle = float(np.nanmedian(own))
    # Each needs room for what most of its points span.
    reaches = [float(np.ptp(np.nanpercentile(y, (2, 98)))) for y in (own, *(curve.magnitude for _, curve in others))]
    place, found = 0.0, []
    for k, (name, curve) in enumerate(others):
        place += 0.6 * (reaches[k] + reaches[k + 1]) if apart is None else apart
        shift = middle + place - float(np.nanmedian(curve.magnitude))
        found.append(Beneath(name, _told(name, shift), curve, curve.magnitude + shift, curve.magnitude_error))
    return found


def relative_magnitudes(name: str, series: SeriesTable, curve: LightCurve) -> F64Array:
    """Return a star's magnitudes at the points of a curve: less the ensemble, a comparison star's less the others of it."""
    names = curve.ensemble.names
    if name in names and curve.ensemble.curves.shape[1] == len(curve):
        values = curve.ensemble.curves[names.index(name)]
    else:
        own = {row.file: row.flux for row in series.star(name)}
        values = np.array([own.get(f, math.nan) for f in curve.files]) / curve.ensemble_flux
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(-2.5 * np.log10(values))


def further_stars(series: SeriesTable, curve: LightCurve, stars: Mapping[str, ShownStar]) -> list[Beneath]:
    """Return further stars of a table under a curve, each larger and shifted as it is asked for; who is not in it is passed over."""
    # The lowest place that is taken so far.
    lowest = float(np.nanmax(curve.magnitude))
    known = {name for role in ("target", "comparison", "check") for name in series.names(role)}
    found = []
    for name, how in stars.items():
        if name not in known or name == curve.name:
            continue
        magnitude = relative_magnitudes(name, series, curve)
        if not np.isfinite(magnitude).any():
            continue
        middle = float(np.nanmedian(magnitude))
        off = how.times * (magnitude - middle)
        up, down = (float(v) for v in np.nanpercentile(off, (2, 98)))
        shift = how.shift_mag
        if shift is None:
            shift = lowest + _APART - up - middle
            lowest += _APART - up + down
        found.append(Beneath(name, _told(name, shift, how.times), curve, middle + off + shift))
    return found
