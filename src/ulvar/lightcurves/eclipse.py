"""A symmetric eclipse template from two discs: partial, total and annular minima."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array
from ulvar.lightcurves.shapes import deepest

_LIMB = 0.5
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(10)
# I falls by _LIMB per unit of mu: the disc of radius sqrt(1 - mu^2) carries _LIMB dmu, the whole one the rest.
_RADII = np.append(np.sqrt(1 - ((_NODES + 1) / 2) ** 2), 1.0)
_LIGHT = np.append(_LIMB * _WEIGHTS / 2, 1 - _LIMB)
_WHOLE = float((_LIGHT * math.pi * _RADII**2).sum())


@dataclass(frozen=True)
class TemplateShape:
    """Shape of an eclipse.

    Attributes
    ----------
    mid : float
        Mid-eclipse [d].
    half_length : float
        First contact to mid-eclipse [d].
    ratio : float
        Radius of the eclipsing over that of the eclipsed disc.
    impact : float
        Smallest distance of the centres, as a share of the sum of the radii.
    share : float
        Share of the light that comes from the eclipsed disc.
    """

    mid: float
    half_length: float
    ratio: float
    impact: float
    share: float


def eclipse_template(time: F64Array, shape: TemplateShape) -> F64Array:
    """Dimming [mag] of an eclipse, 0 outside.

    The eclipsed disc is darkened to its limb by I = 1 - 0.5 (1 - mu), as a pile of uniform discs whose
    weights are Gauss-Legendre nodes in mu; shape and depth are otherwise free, so the template follows
    partial, total and annular minima.
    """
    from ulvar.lightcurves._kernels_transit import disc_hidden

    reach = 1 + shape.ratio
    low = shape.impact * reach
    speed = math.sqrt(max(reach**2 - low**2, 1e-12)) / shape.half_length
    distance = np.hypot(low, speed * (np.asarray(time, dtype=np.float64) - shape.mid))
    hidden = np.empty(len(distance))
    disc_hidden(distance, _RADII, _LIGHT, shape.ratio, hidden)
    return np.asarray(-2.5 * np.log10(np.maximum(1 - shape.share / _WHOLE * hidden, 1e-6)))


def _hidden_at_most(p: F64Array) -> float:
    """Return the share of the eclipsed disc's light that is hidden at mid-eclipse; of `p` ratio and impact count."""
    from ulvar.lightcurves._kernels_transit import disc_hidden

    ratio, hidden = math.exp(float(p[2])), np.empty(1)
    disc_hidden(np.array([float(p[3]) * (1 + ratio)]), _RADII, _LIGHT, ratio, hidden)
    return float(hidden[0]) / _WHOLE


@dataclass(frozen=True)
class EclipseShape:
    """A symmetric minimum by two discs: `p` holds middle, logs of half length and ratio of the radii, impact, and the share of the light.

    Ratio, impact and share trade against each other; the depth and its error are taken from the curve they make, not from any one of them.
    """

    kind: str = "eclipse"

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return guesses of partial, total and annular minima of two lengths; none where there is no dip."""
        mid, depth = deepest(t, magnitude)
        span = float(np.ptp(t))
        if depth <= 0 or span <= 0:
            return []
        light = 1 - 10 ** (-0.4 * depth)
        return [
            np.array([mid, math.log(part * span), math.log(ratio), impact, min(0.95, 1.6 * light / min(1.0, ratio**2))])
            for ratio, impact in ((0.8, 0.2), (1.0, 0.45), (0.5, 0.1))
            for part in (0.12, 0.3)
        ]

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return bounds: the middle within the points, half the length from 0.2 % to three times their span."""
        span = float(np.ptp(t))
        low = [float(t.min()), math.log(2e-3 * span), math.log(0.15), 0.0, 1e-4]
        return np.array(low), np.array([float(t.max()), math.log(3 * span), math.log(4.0), 0.98, 1.0])

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return impacts that are tried besides: points near mid-eclipse would tell them apart."""
        return [(3, impact) for impact in (0.05, 0.25, 0.45, 0.65)]

    def drawn_as(self, p: F64Array) -> F64Array:
        """Return the parameters with the logarithm of the light that is hidden at most in the place of the share."""
        q = p.copy()
        q[4] = math.log(max(p[4] * _hidden_at_most(p), 1e-300))
        return q

    def drawn_from(self, q: F64Array) -> tuple[F64Array, float] | None:
        """Return the parameters; None where the discs do not meet."""
        if not (-10 < q[2] < 10 and 0 <= q[3] <= 1 and q[4] < 0):
            return None
        hidden = _hidden_at_most(q)
        if hidden <= 0:
            return None
        p = q.copy()
        p[4] = math.exp(q[4]) / hidden
        return p, math.log(p[4])

    def template(self, p: F64Array) -> TemplateShape:
        """Return the parameters under their names."""
        return TemplateShape(float(p[0]), math.exp(float(p[1])), math.exp(float(p[2])), float(p[3]), float(p[4]))

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return the dimming."""
        return eclipse_template(t, self.template(p))

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return no column."""
        return np.empty((len(t), 0))

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return middle, depth, durations and contacts; of a partial minimum there is no second and third contact."""
        shape = self.template(p)
        depth = float(eclipse_template(np.array([shape.mid]), shape)[0])
        reach = 1 + shape.ratio
        low = shape.impact * reach
        inner, outer = (1 - shape.ratio) ** 2 - low**2, reach**2 - low**2
        flat = shape.half_length * math.sqrt(inner / outer) if inner > 0 and outer > 0 else math.nan
        return {
            "mid": shape.mid, "depth_mag": depth, "duration_d": 2 * shape.half_length,
            "first_contact": shape.mid - shape.half_length, "second_contact": shape.mid - flat,
            "third_contact": shape.mid + flat, "fourth_contact": shape.mid + shape.half_length,
        }  # fmt: skip
