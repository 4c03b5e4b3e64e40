"""What is fitted to light curves: transits, sines with harmonics, polynomials, nothing at all; each as an offset and linear columns.

Eclipses have a module of their own, for their template is searched among several shapes.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from ulvar.engine import F64Array

_MAG = 2.5 / math.log(10)


class Shape(Protocol):
    """A model of the light [mag], `offset(t, p) + columns(t, p) @ c`: `p` are found by search, `c` by linear least squares."""

    @property
    def kind(self) -> str:
        """What it is called."""
        ...

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return first guesses of `p`, the likeliest first."""
        ...

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return lowest and highest values of `p`."""
        ...

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return (number of a parameter, value) at which it is held to see whether other shapes fit about as well."""
        ...

    def drawn_as(self, p: F64Array) -> F64Array:
        """Return `p` in terms that trade less against each other, for draws from a posterior."""
        ...

    def drawn_from(self, q: F64Array) -> tuple[F64Array, float] | None:
        """Return `p` of such terms, and the logarithm of how much room of `p` a unit of theirs is; None where there is no such shape."""
        ...

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return the part that is not linear in anything, shape (n,) [mag]."""
        ...

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return the columns besides the constant, shape (n, columns)."""
        ...

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return what people want to know; times are relative to that of `t`."""
        ...


class AsItIs:
    """Parameters that are drawn as they are."""

    def drawn_as(self, p: F64Array) -> F64Array:
        """Return them."""
        return p

    def drawn_from(self, q: F64Array) -> tuple[F64Array, float] | None:
        """Return them."""
        return q, 0.0


@dataclass(frozen=True)
class NoShape(AsItIs):
    """A constant."""

    kind: str = "none"

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return nothing to search."""
        return [np.empty(0)]

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return no bounds."""
        return np.empty(0), np.empty(0)

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return none."""
        return []

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return zeros."""
        return np.zeros(len(t))

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return no column."""
        return np.empty((len(t), 0))

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return nothing."""
        return {}


def quadratic_law(q1: float, q2: float) -> tuple[float, float]:
    """Return u1, u2 of quadratic limb darkening by two numbers from 0 to 1 (Kipping 2013, MNRAS 435, 2152, eqs. 15, 16)."""
    return 2 * math.sqrt(q1) * q2, math.sqrt(q1) * (1 - 2 * q2)


def unquadratic_law(u1: float, u2: float) -> tuple[float, float]:
    """Return the inverse of `quadratic_law` (eqs. 17, 18)."""
    both = u1 + u2
    return both**2, 0.5 * u1 / both if both > 0 else 0.0


def transit_dimming(
    time: F64Array, mid: float, duration: float, ratio: float, impact: float, law: tuple[float, float]
) -> F64Array:
    """Return the dimming of a star by a dark disc that crosses it [mag], 0 outside.

    Parameters
    ----------
    time : float64 array, shape (n,)
        [d]
    mid, duration : float
        Middle, and first to fourth contact [d].
    ratio : float
        Radius of the disc over that of the star.
    impact : float
        Least distance of the centres [radii of the star].
    law : (float, float)
        u1, u2 of quadratic limb darkening: I = 1 - u1 (1 - mu) - u2 (1 - mu)^2.

    Notes
    -----
    Mandel & Agol 2002 (see `_kernels_transit`). The disc moves straight and evenly over the star, which it does as far as the transit is short
    against the orbit.
    """
    from ulvar.lightcurves import _kernels_transit

    half = max(1e-12, (1 + ratio) ** 2 - impact**2)
    along = 2 * (np.asarray(time, dtype=np.float64) - mid) / duration * math.sqrt(half)
    light = np.empty(len(along))
    _kernels_transit.transit_light(np.hypot(impact, along), ratio, law[0], law[1], light)
    return np.asarray(-2.5 * np.log10(np.maximum(light, 1e-6)))


@dataclass(frozen=True)
class TransitShape(AsItIs):
    """A transit: `p` holds middle, log of the duration, ratio of the radii, impact, and with a free law q1 and q2."""

    law: tuple[float, float] = (0.4, 0.25)
    free_law: bool = False
    kind: str = "transit"

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return guesses of several durations about the deepest place."""
        mid, depth = deepest(t, magnitude)
        if depth <= 0 or np.ptp(t) <= 0:
            return []
        ratio = math.sqrt(min(0.9, max(1e-5, 1 - 10 ** (-0.4 * depth))))
        span = float(np.ptp(t))
        tail = list(unquadratic_law(*self.law)) if self.free_law else []
        return [
            np.array([mid, math.log(part * span), ratio, impact, *tail])
            for part in (0.4, 0.65, 0.2)
            for impact in (0.2, 0.7)
        ]

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return bounds: the middle within the points, the duration up to three times their span, no grazing beyond 1.2 radii."""
        span = float(np.ptp(t))
        low = [float(t.min()), math.log(5e-3 * span), 1e-3, 0.0]
        high = [float(t.max()), math.log(3 * span), 1.2, 1.2]
        if self.free_law:
            low, high = [*low, 0.0, 0.0], [*high, 1.0, 1.0]
        return np.array(low), np.array(high)

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return impacts: a transit with few points at its edges does not know it."""
        return [(3, impact) for impact in (0.1, 0.4, 0.65, 0.85)]

    def _law(self, p: F64Array) -> tuple[float, float]:
        return quadratic_law(float(p[4]), float(p[5])) if self.free_law else self.law

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return the dimming."""
        return transit_dimming(t, float(p[0]), math.exp(float(p[1])), float(p[2]), float(p[3]), self._law(p))

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return no column."""
        return np.empty((len(t), 0))

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return middle, depth, durations, contacts, radii; of a grazing transit there is no second and third contact."""
        mid, whole, ratio, impact = float(p[0]), math.exp(float(p[1])), float(p[2]), float(p[3])
        depth = float(self.offset(np.array([mid]), p)[0])
        outer, inner = (1 + ratio) ** 2 - impact**2, (1 - ratio) ** 2 - impact**2
        flat = whole * math.sqrt(inner / outer) if inner > 0 and ratio < 1 and outer > 0 else math.nan
        found = {
            "mid": mid, "depth_mag": depth, "depth": 1 - 10 ** (-0.4 * depth), "duration_d": whole, "ratio": ratio, "impact": impact,
            "ingress_d": (whole - flat) / 2, "first_contact": mid - whole / 2, "second_contact": mid - flat / 2,
            "third_contact": mid + flat / 2, "fourth_contact": mid + whole / 2,
        }  # fmt: skip
        if self.free_law:
            found["u1"], found["u2"] = self._law(p)
        return found


@dataclass(frozen=True)
class SineShape(AsItIs):
    """A sine with harmonics: `p` holds the log of the period; columns are cosine and sine of each harmonic."""

    harmonics: int = 1
    period_d: float | None = None
    kind: str = "sine"

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return the period that was told, or the strongest ones of the periodogram."""
        if self.period_d is not None:
            return [np.array([math.log(self.period_d)])]
        from ulvar.lightcurves.period import PeriodResult, find_period

        span = float(np.ptp(t))
        steps = np.diff(np.sort(t))
        shortest = max(2 * float(np.median(steps[steps > 0])), span / 2000) if (steps > 0).any() else span / 100
        found = find_period(
            t, magnitude, np.full(len(t), math.nan), shortest_d=min(shortest, span / 4), longest_d=2 * span
        )
        if not isinstance(found, PeriodResult):
            return [np.array([math.log(span / 2)])]
        # A wave of two minima is found at half of its period.
        return [np.array([math.log(found.period_d * k)]) for k in ((1, 2) if self.harmonics > 1 else (1,))]

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return bounds about the period that was told, else from a thousandth to thrice the span."""
        span = float(np.ptp(t))
        if self.period_d is not None:
            near = min(0.2, 0.4 * self.period_d / max(span, self.period_d))
            return np.array([math.log(self.period_d * (1 - near))]), np.array([math.log(self.period_d * (1 + near))])
        return np.array([math.log(span / 2000)]), np.array([math.log(3 * span)])

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return none."""
        return []

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return zeros."""
        return np.zeros(len(t))

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return cosine and sine of each harmonic."""
        angles = 2 * math.pi * np.outer(t, np.arange(1, self.harmonics + 1)) / math.exp(float(p[0]))
        return np.concatenate([np.cos(angles), np.sin(angles)], axis=1)

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return the period, the range, and when it is brightest and faintest nearest to the middle of the points."""
        period = math.exp(float(p[0]))
        middle = float(t.min() + t.max()) / 2
        fine = middle + period * (np.arange(1441) / 1440 - 0.5)
        wave = self.columns(fine, p) @ c
        m = self.harmonics
        return {
            "period_d": period, "amplitude_mag": float(np.ptp(wave)), "semi_amplitude_mag": math.hypot(float(c[0]), float(c[m])),
            "maximum": _turning(fine, -wave), "minimum": _turning(fine, wave),
        }  # fmt: skip


@dataclass(frozen=True)
class PolynomialShape(AsItIs):
    """A polynomial of some degree; its columns are powers of the time from -1 to 1."""

    degree: int = 4
    kind: str = "polynomial"
    _none: F64Array = field(default_factory=lambda: np.empty(0), repr=False)

    def starts(self, t: F64Array, magnitude: F64Array) -> list[F64Array]:
        """Return nothing to search."""
        return [self._none]

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        """Return no bounds."""
        return self._none, self._none

    def rivals(self, p: F64Array) -> list[tuple[int, float]]:
        """Return none."""
        return []

    def offset(self, t: F64Array, p: F64Array) -> F64Array:
        """Return zeros."""
        return np.zeros(len(t))

    def columns(self, t: F64Array, p: F64Array) -> F64Array:
        """Return the powers; Legendre's, which do not resemble each other."""
        middle, half = float(t.min() + t.max()) / 2, max(float(np.ptp(t)) / 2, 1e-12)
        return np.asarray(np.polynomial.legendre.legvander((t - middle) / half, self.degree)[:, 1:], dtype=np.float64)

    def values(self, t: F64Array, p: F64Array, c: F64Array) -> dict[str, float]:
        """Return when it is faintest and brightest between the ends, NaN where that is at an end."""
        fine = np.linspace(float(t.min()), float(t.max()), 2001)
        middle, half = float(t.min() + t.max()) / 2, max(float(np.ptp(t)) / 2, 1e-12)
        wave = np.asarray(np.polynomial.legendre.legval((fine - middle) / half, np.r_[0.0, c]), dtype=np.float64)
        return {
            "minimum": _turning(fine, wave), "maximum": _turning(fine, -wave), "range_mag": float(np.ptp(wave)),
        }  # fmt: skip


def _turning(t: F64Array, value: F64Array) -> float:
    """Return where values on even steps are highest, between the steps by a parabola; NaN at an end."""
    k = int(np.argmax(value))
    if not 0 < k < len(t) - 1:
        return math.nan
    low, mid, high = value[k - 1], value[k], value[k + 1]
    bend = low - 2 * mid + high
    return float(t[k] + 0.5 * (low - high) / bend * (t[1] - t[0])) if bend < 0 else float(t[k])


def deepest(t: F64Array, magnitude: F64Array) -> tuple[float, float]:
    """Return time and depth of the faintest place of a smoothed curve, over its brightest fifth [mag]."""
    order = np.argsort(t)
    half = max(1, len(t) // 30)
    m = magnitude[order]
    smooth = np.array([np.median(m[max(0, i - half) : i + half + 1]) for i in range(len(m))])
    return float(t[order][np.argmax(smooth)]), float(smooth.max() - np.percentile(m, 20))
