"""Rotation of minor planets: Fourier series with a level for each session, what is as likely, and corrections by an ephemeris."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, Failed, counted, in_parts

_LIGHT_DAYS_PER_AU = 0.005775518331
# Frequencies for each independent one, at most in all, and points for each term.
_OVERSAMPLED, _MOST, _POINTS_PER_TERM = 8, 200_000, 3
# A period is as likely as the best when noise alone tells them apart worse than this.
_AS_LIKELY = 0.01
# An order is about as good whose criterion is higher by less; a series says nothing of phases that nobody saw.
_AS_GOOD, _WIDEST_GAP = 10.0, 0.2


@dataclass(frozen=True)
class Rotation:
    """A rotation period.

    Attributes
    ----------
    period_h, period_error_h : float
        [h]
    amplitude_mag : float
        From brightest to faintest of the series.
    order : int
        Harmonics.
    rms_mag : float
    offsets : dict of str to float
        Level of each session against the first [mag].
    rivals : tuple of float
        Periods that fit as well as noise can tell [h], the best first.
    ambiguous : bool
        Whether there is any, or a fifth of the phases was never seen.
    periods_h, scatter_mag : float64 array
        Scatter about the series for each period that was tried.
    coefficients : float64 array, shape (2 order,)
        Cosines, then sines, of the phase from `origin` on.
    origin : float
        Time of phase 0 [d].
    """

    period_h: float
    period_error_h: float
    amplitude_mag: float
    order: int
    rms_mag: float
    offsets: dict[str, float]
    rivals: tuple[float, ...]
    ambiguous: bool
    periods_h: F64Array
    scatter_mag: F64Array
    coefficients: F64Array
    origin: float

    def at(self, time: F64Array) -> F64Array:
        """Return the series at times [d], mean 0 [mag]."""
        return np.asarray(
            _harmonics(np.asarray(time) - self.origin, 24 / self.period_h, self.order) @ self.coefficients
        )


@dataclass(frozen=True)
class Geometry:
    """Where a minor planet was: times [JD], distances from Sun and Earth [au], phase angles [deg]; float64 arrays, shape (n,)."""

    jd: F64Array
    sun_au: F64Array
    earth_au: F64Array
    phase_deg: F64Array


def reduced(
    jd: F64Array, magnitude: F64Array, geometry: Geometry, *, slope: float = 0.15
) -> tuple[F64Array, F64Array] | Failed:
    """Return times less the light time, and magnitudes at 1 au from both and phase angle 0.

    Parameters
    ----------
    jd, magnitude : float64 array, shape (n,)
        [d], [mag]
    geometry : Geometry
        Over all of the times; between its own it is interpolated.
    slope : float
        G of the phase function (Bowell et al. 1989, in Asteroids II, 524, the H, G system).

    Returns
    -------
    (jd, magnitude), or Failed where the table does not cover the times.
    """
    order = np.argsort(geometry.jd)
    told = geometry.jd[order]
    if len(told) < 2 or np.nanmin(jd) < told[0] - 1e-6 or np.nanmax(jd) > told[-1] + 1e-6:
        return Failed("the ephemeris does not cover the times of the points")
    sun, earth, phase = (
        np.interp(jd, told, values[order]) for values in (geometry.sun_au, geometry.earth_au, geometry.phase_deg)
    )
    half = np.tan(np.radians(phase) / 2)
    shine = (1 - slope) * np.exp(-3.33 * half**0.63) + slope * np.exp(-1.87 * half**1.22)
    return np.asarray(jd - earth * _LIGHT_DAYS_PER_AU), np.asarray(
        magnitude - 5 * np.log10(sun * earth) + 2.5 * np.log10(shine)
    )


def _harmonics(t: F64Array, frequency: float, order: int) -> F64Array:
    angles = 2 * math.pi * frequency * np.outer(t, np.arange(1, order + 1))
    return np.concatenate([np.cos(angles), np.sin(angles)], axis=1)


def find_rotation(
    time: F64Array, magnitude: F64Array, error: F64Array, sessions: Sequence[str], *, shortest_h: float, longest_h: float,
    order: int | None = None,
) -> Rotation | Failed:  # fmt: skip
    """Find the rotation period of a body.

    Parameters
    ----------
    time, magnitude, error : float64 array, shape (n,)
        [d], [mag], [mag]; times less the light time. Errors may be NaN.
    sessions : sequence of str, length n
        Each has a level of its own.
    shortest_h, longest_h : float
        Of the rotation [h].
    order : int, optional
        Harmonics; by default the fewest from 2 to 6 for which Schwarz's criterion is lowest.

    Returns
    -------
    Rotation, or Failed with the reason.

    Raises
    ------
    ValueError
        If the range is not 0 < shortest < longest.

    Notes
    -----
    Harris et al. 1989, Icarus 77, 171: levels and Fourier coefficients by weighted least squares for each period. A period is a rival where
    its sum of squares is not larger than the best one's by more than the F distribution allows to noise in one of a hundred cases.
    """
    if not 0 < shortest_h < longest_h:
        raise ValueError("the period range needs 0 < LOW < HIGH")
    names = list(dict.fromkeys(sessions))
    n = len(time)
    orders = [order] if order is not None else [2, 3, 4, 5, 6]
    orders = [m for m in orders if n >= _POINTS_PER_TERM * (2 * m + len(names))]
    if not orders:
        return Failed(f"only {counted(n, 'point')} in {counted(len(names), 'session')}, too few for a Fourier series")
    origin = float(np.mean(time))
    t = np.ascontiguousarray(np.asarray(time, dtype=np.float64) - origin)
    known = bool(np.isfinite(error).all() and (error > 0).all())
    weight = np.ascontiguousarray(1 / np.asarray(error) ** 2 if known else np.ones(n))
    group = np.array([names.index(one) for one in sessions], dtype=np.int64)
    y = np.ascontiguousarray(magnitude, dtype=np.float64)
    span = float(np.ptp(t)) or 1.0
    low, high = 24 / longest_h, 24 / shortest_h
    searched = {}
    by_order: dict[int, tuple[float, float]] = {}
    best_bic, best_order = math.inf, orders[0]
    for m in orders:
        # The highest harmonic is as many times as sharp.
        count = int(min(_MOST, max(400, math.ceil((high - low) * span * _OVERSAMPLED * max(1, m / 2)))))
        step = (high - low) / (count - 1)
        squares = _squares(t, y, weight, group, len(names), low, step, count, m)
        grid = np.asarray(low + step * np.arange(count), dtype=np.float64)
        searched[m] = grid, squares
        # Between two steps it may be far lower.
        bottom, lowest = _refined(t, y, weight, group, len(names), grid, squares, int(np.argmin(squares)), m)
        bic = n * math.log(max(lowest, 1e-300) / n) + (2 * m + len(names)) * math.log(n)
        by_order[m] = bic, bottom
        # With each term a whole range of periods gets another chance to fit the noise.
        if bic < best_bic - _AS_GOOD:
            best_bic, best_order = bic, m
    m = best_order
    frequencies, squares = searched[m]
    top = int(np.argmin(squares))
    frequency, least = _refined(t, y, weight, group, len(names), frequencies, squares, top, m)
    coefficients, levels, left = _solved(t, y, weight, group, len(names), frequency, m)
    free = max(1, n - 2 * m - len(names) - 1)
    from scipy.stats import f as fisher

    limit = least * (1 + (2 * m) / free * float(fisher.isf(_AS_LIKELY, 2 * m, free)))
    rivals = []
    valleys = np.flatnonzero((squares[1:-1] <= squares[:-2]) & (squares[1:-1] < squares[2:])) + 1
    for k in valleys[np.argsort(squares[valleys])][:40].tolist():
        other, value = _refined(t, y, weight, group, len(names), frequencies, squares, k, m)
        if value <= limit and abs(other - frequency) > 0.5 / span:
            rivals.append(24 / other)
    # Another order may be about as good, and say otherwise.
    rivals += [
        24 / other
        for bic, other in by_order.values()
        if bic < best_bic + _AS_GOOD
        and abs(other - frequency) > 0.5 / span
        and all(abs(24 / other - r) > 0.01 * r for r in rivals)
    ]
    curvature = _bend(t, y, weight, group, len(names), frequency, m, span)
    error_f = math.sqrt(2 * least / free / curvature) if curvature > 0 else math.nan
    fine = _harmonics(np.arange(720) / 720 / frequency, frequency, m) @ coefficients
    return Rotation(
        24 / frequency, 24 * error_f / frequency**2, float(np.ptp(fine)), m, float(np.sqrt(np.mean(left**2))),
        {name: float(level - levels[0]) for name, level in zip(names, levels)}, tuple(rivals[:8]),
        bool(rivals) or _gap(t * frequency) > _WIDEST_GAP,
        np.asarray(24 / frequencies), np.sqrt(squares / weight.sum()), coefficients, origin,
    )  # fmt: skip


def _gap(cycles: F64Array) -> float:
    """Return the widest stretch of phases without a point."""
    phases = np.sort(cycles % 1)
    return float(np.max(np.diff(np.r_[phases, phases[0] + 1])))


def _squares(
    t: F64Array, y: F64Array, weight: F64Array, group: np.ndarray, groups: int, low: float, step: float, count: int, order: int
) -> F64Array:  # fmt: skip
    from ulvar.lightcurves import _kernels

    out = np.empty(count)
    in_parts(
        lambda a, b: _kernels.fourier_squares(t, y, weight, group, groups, low + a * step, step, order, out[a:b]),
        count,
        smallest=50,
    )
    return out


def _refined(
    t: F64Array, y: F64Array, weight: F64Array, group: np.ndarray, groups: int, frequencies: F64Array, squares: F64Array, k: int, order: int
) -> tuple[float, float]:  # fmt: skip
    """Return frequency and sum of squares at the bottom of a valley."""
    a, b = frequencies[max(0, k - 1)], frequencies[min(len(frequencies) - 1, k + 1)]
    fine = _squares(t, y, weight, group, groups, float(a), float(b - a) / 100, 101, order)
    at = int(np.argmin(fine))
    return float(a + at * (b - a) / 100), float(fine[at])


def _bend(
    t: F64Array, y: F64Array, weight: F64Array, group: np.ndarray, groups: int, frequency: float, order: int, span: float
) -> float:  # fmt: skip
    """Return the second derivative of the sum of squares by the frequency."""
    h = 0.05 / span
    low, here, high = _squares(t, y, weight, group, groups, frequency - h, h, 3, order)
    return float(low - 2 * here + high) / h**2


def _solved(
    t: F64Array, y: F64Array, weight: F64Array, group: np.ndarray, groups: int, frequency: float, order: int
) -> tuple[F64Array, F64Array, F64Array]:  # fmt: skip
    """Return Fourier coefficients, levels, and what is left."""
    design = np.concatenate([_harmonics(t, frequency, order), np.eye(groups)[group]], axis=1)
    root = np.sqrt(weight)
    solution, *_ = np.linalg.lstsq(root[:, None] * design, root * y, rcond=None)
    return np.asarray(solution[: 2 * order]), np.asarray(solution[2 * order :]), np.asarray(y - design @ solution)
