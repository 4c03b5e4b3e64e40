"""What stands beside the target in the plot of a light curve: other series of its field, and further stars."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ulvar.desktop.models.curves import ShownStar
from ulvar.desktop.parts.glyphs import SHAPES, role_token
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import filter_color
from ulvar.lightcurves import LightCurve
from ulvar.night.stations import Beside
from ulvar.photometry import SeriesTable


def add_others(plot: Plot, beside: Sequence[Beside], times: Sequence[np.ndarray], apart: float | None) -> None:
    """Draw the curves of other series under the own one, each shifted by the number of magnitudes that is named."""
    own = plot.series[0]
    middle = float(np.nanmedian(own.y))
    # Each needs room for what most of its points span.
    reaches = [float(np.ptp(np.nanpercentile(y, (2, 98)))) for y in (own.y, *(o.curve.magnitude for o in beside))]
    place = 0.0
    for k, (other, x) in enumerate(zip(beside, times)):
        place += 0.6 * (reaches[k] + reaches[k + 1]) if apart is None else apart
        shift = middle + place - float(np.nanmedian(other.curve.magnitude))
        name = other.series.filter or other.series.title
        plot.series.append(
            Points(
                x, other.curve.magnitude + shift, other.curve.magnitude_error,
                ["left_out" if out else "kept" if good else "other" for out, good in zip(other.curve.left_out, other.curve.good)],
                [other.raws.get(file, "") for file in other.curve.files],
                name=f"{name}, shifted by {shift:+.2f} mag".replace("-", "−"),
                color=filter_color(plot.theme, other.series.filter), shape=SHAPES[(k + 1) % len(SHAPES)],
            )
        )  # fmt: skip


# Stars under a curve stand so far below what is above them [mag].
_APART = 0.04


def relative_magnitudes(name: str, series: SeriesTable, curve: LightCurve) -> np.ndarray:
    """Return a star's magnitudes at the points of a curve: less the ensemble, a comparison star's less the others of it."""
    names = curve.ensemble.names
    if name in names and curve.ensemble.curves.shape[1] == len(curve):
        values = curve.ensemble.curves[names.index(name)]
    else:
        own = {row.file: row.flux for row in series.star(name)}
        values = np.array([own.get(f, math.nan) for f in curve.files]) / curve.ensemble_flux
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(-2.5 * np.log10(values))


def add_stars(
    plot: Plot, series: SeriesTable | None, curve: LightCurve, x: np.ndarray, stars: Mapping[str, ShownStar]
) -> None:  # fmt: skip
    """Draw further stars under a curve, each larger and shifted by what its name says."""
    if series is None:
        return
    # The lowest place that is taken so far.
    lowest = float(np.nanmax(curve.magnitude))
    roles = {name: role for role in ("target", "comparison", "check") for name in series.names(role)}
    for name, how in stars.items():
        if name not in roles or name == curve.name:
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
        larger = "" if how.times == 1.0 else f", {how.times:g} times as large"
        plot.series.append(
            Points(
                x,
                middle + off + shift,
                token=role_token(roles[name]),
                name=f"{name}, shifted by {shift:+.2f} mag{larger}".replace("-", "−"),
            )
        )
