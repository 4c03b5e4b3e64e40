"""What stands beside the target in the plot of a light curve: other series of its field, and check stars."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from ulvar.desktop.parts.glyphs import SHAPES
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


def add_check_stars(plot: Plot, series: SeriesTable | None, curve: LightCurve, x: np.ndarray) -> None:
    """Draw up to two check stars under a curve, shifted by what their names say."""
    if series is None:
        return
    base = float(np.nanmax(curve.magnitude))
    for number, name in enumerate(series.names("check")[:2], 1):
        own = {row.file: row.flux for row in series.star(name)}
        values = np.array([own.get(f, math.nan) for f in curve.files]) / curve.ensemble_flux
        with np.errstate(divide="ignore", invalid="ignore"):
            magnitude = -2.5 * np.log10(values)
        shift = base + 0.06 * number - float(np.nanmedian(magnitude))
        plot.series.append(
            Points(
                x,
                magnitude + shift,
                token="check_star",
                name=f"{name}, shifted by {shift:+.2f} mag".replace("-", "−"),
            )
        )
