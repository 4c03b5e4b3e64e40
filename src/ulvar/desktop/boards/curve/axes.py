"""What runs along a light curve: barycentric, heliocentric or plain Julian days, the clock, or the phase; magnitudes as flux, means over bins."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.desktop.parts.plots import Points
from ulvar.desktop.parts.ticks import clock_text, tick_text
from ulvar.lightcurves import LightCurve, heliocentric_offset

AXES = ("BJD_TDB", "HJD_UTC", "JD_UTC", "clock", "phase")


@dataclass(frozen=True)
class Axis:
    """An axis: how times become places on it, and the words for them.

    Attributes
    ----------
    name : str
        One of `AXES`.
    day : float
        What was taken off Julian days.
    label : str
    unit_d : float
        Days in one of its units.
    x : callable
        Places of a light curve's points.
    forth, back : callable
        From the time that models are in to places, and back; `back` gives None where there is no way.
    words : callable
        Of a tick, by value and step.
    """

    name: str
    day: float
    label: str
    unit_d: float
    x: Callable[[LightCurve], np.ndarray]
    forth: Callable[[np.ndarray], np.ndarray]
    back: Callable[[np.ndarray], np.ndarray | None]
    words: Callable[[float, float], str] = tick_text

    def days(self, minutes: float) -> float:
        """Return minutes in units of the axis."""
        return minutes / 1440 / self.unit_d

    def length_words(self, length: float) -> str:
        """Return a length along the axis in words."""
        if self.name == "phase":
            return f"{length:.4f} of the period"
        minutes = 1440 * length * self.unit_d
        return (
            f"{minutes:.1f} min"
            if minutes < 120
            else f"{minutes / 60:.2f} h"
            if minutes < 2880
            else f"{minutes / 1440:.3f} d"
        )


def axis_of(
    curve: LightCurve, wanted: str, fold: tuple[float, float] | None, others: Sequence[LightCurve] = ()
) -> Axis:
    """Return the axis that is wanted, or the nearest one that all curves have."""
    barycentric = all(np.isfinite(one.bjd_tdb).all() for one in (curve, *others))
    if wanted == "phase" and fold is not None:
        period, epoch = fold
        return Axis(
            "phase", 0.0, f"phase of {period:.8g} d", period, lambda c: (c.time - epoch) / period % 1,
            lambda t: (t - epoch) / period % 1, lambda x: epoch + period * x,
        )  # fmt: skip
    name = "BJD_TDB" if barycentric else "JD_UTC"
    if wanted in ("JD_UTC", "clock") or (wanted == "HJD_UTC" and curve.coordinates is not None):
        name = wanted
    # Models are in barycentric time where that is known; between two nights the difference changes by seconds only.
    off = float(np.nanmedian(curve.time - curve.jd_utc))
    if name == "BJD_TDB":
        day = float(math.floor(np.nanmin(curve.bjd_tdb)))
        return Axis(name, day, _julian(name, day), 1.0, lambda c: c.bjd_tdb - day, lambda t: t - day, lambda x: x + day)
    if name == "HJD_UTC":
        place = curve.coordinates or (0.0, 0.0)

        def travel(jd: np.ndarray) -> np.ndarray:
            return heliocentric_offset(jd, *place)

        offsets = travel(curve.jd_utc)
        shift = float(np.nanmedian(curve.time - curve.jd_utc - offsets))
        day = float(math.floor(np.nanmin(curve.jd_utc + offsets)))
        return Axis(
            name, day, _julian(name, day), 1.0, lambda c: c.jd_utc + travel(c.jd_utc) - day,
            lambda t: t - shift - day, lambda x: x + day + shift,
        )  # fmt: skip
    day = float(math.floor(np.nanmin(curve.jd_utc)))
    if name == "clock":
        # Hours since the midnight before the first point: Julian days begin at noon.
        begin = float(math.floor(np.nanmin(curve.jd_utc) - 0.5) + 0.5)
        return Axis(
            name, day, "time of day, UTC", 1 / 24, lambda c: 24 * (c.jd_utc - begin), lambda t: 24 * (t - off - begin),
            lambda x: x / 24 + begin + off, clock_text,
        )  # fmt: skip
    return Axis(
        name, day, _julian(name, day), 1.0, lambda c: c.jd_utc - day, lambda t: t - off - day, lambda x: x + day + off
    )


def _julian(name: str, day: float) -> str:
    return f"{name} − {day:,.0f} d".replace(",", "\u2009")


def to_flux(curve: LightCurve) -> tuple[np.ndarray, np.ndarray]:
    """Return light over its median, and errors."""
    middle = float(np.nanmedian(curve.relative_flux[curve.good])) if curve.good.any() else 1.0
    return curve.relative_flux / middle, curve.relative_flux_error / middle


def binned(x: np.ndarray, value: np.ndarray, error: np.ndarray, width: float, name: str) -> Points:
    """Return weighted means over bins of an axis, with errors by scatter or by those of the points, the larger."""
    known = np.isfinite(error) & (error > 0)
    weight = 1 / np.where(known, error, 1.0) ** 2 if known.all() else np.ones(len(x))
    place = np.floor((x - x.min()) / width).astype(int) if len(x) else np.empty(0, dtype=int)
    xs, ys, es = [], [], []
    for k in np.unique(place):
        inside = place == k
        w = weight[inside] / weight[inside].sum()
        mean = float((w * value[inside]).sum())
        own = 1 / math.sqrt(float(weight[inside].sum())) if known.all() else 0.0
        count = int(inside.sum())
        scatter = math.sqrt(float((w * (value[inside] - mean) ** 2).sum()) / max(1, count - 1)) if count > 2 else 0.0
        xs.append(float((w * x[inside]).sum()))
        ys.append(mean)
        # Of one or two points without errors nothing is known.
        es.append(max(own, scatter) or math.nan)
    return Points(np.array(xs), np.array(ys), np.array(es), token="target", name=f"means over {name}")
