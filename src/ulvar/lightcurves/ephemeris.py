"""Times of minima over many nights: an ephemeris, what is observed less what it tells, and whether the period changes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, Failed, counted


@dataclass(frozen=True)
class Ephemeris:
    """A fitted ephemeris: time = epoch + period E + change E^2.

    Attributes
    ----------
    epoch, epoch_error : float
        Of cycle 0 [d].
    period, period_error : float
        [d]
    change, change_error : float
        Half of the change of the period from cycle to cycle [d]; NaN where it was not asked for.
    cycles : float64 array, shape (n,)
        Of each time, counted from the epoch; halves are secondary minima.
    off, error : float64 array, shape (n,)
        Observed less told, and the errors of the times [d].
    linear_off : float64 array, shape (n,)
        Observed less what the linear part tells [d].
    chi2_reduced : float
        Errors are scaled by its root where it exceeds 1; NaN where no errors are known.
    """

    epoch: float
    epoch_error: float
    period: float
    period_error: float
    change: float
    change_error: float
    cycles: F64Array
    off: F64Array
    error: F64Array
    linear_off: F64Array
    chi2_reduced: float


def count_cycles(time: F64Array, period: float, epoch: float, *, halves: bool = False) -> F64Array | Failed:
    """Return the cycle of each time; Failed where a time lies more than a quarter of a cycle (an eighth with halves) off every one.

    Parameters
    ----------
    time : float64 array, shape (n,)
        [d]
    period, epoch : float
        [d]
    halves : bool
        Whether secondary minima, half a cycle later, are among them.
    """
    step = 0.5 if halves else 1.0
    exact = (np.asarray(time, dtype=np.float64) - epoch) / period
    cycles = np.round(exact / step) * step
    far = np.abs(exact - cycles) > 0.25 * step
    if far.any():
        k = int(np.argmax(np.abs(exact - cycles)))
        return Failed(
            f"the time {time[k]:.5f} lies {abs(exact[k] - cycles[k]):.2f} cycles off: the period or the epoch is not good enough to count"
        )
    return np.asarray(cycles)


def fit_ephemeris(
    time: F64Array,
    error: F64Array,
    *,
    period: float,
    epoch: float | None = None,
    halves: bool = False,
    quadratic: bool = False,
) -> Ephemeris | Failed:
    """Fit an ephemeris to times of minima, weighted.

    Parameters
    ----------
    time, error : float64 array, shape (n,)
        [d]; errors that are NaN weigh all alike.
    period : float
        Good enough to count cycles [d].
    epoch : float, optional
        Of a cycle that is to be 0 [d]; by default the time nearest to the weighted middle, which makes epoch and period independent.
    halves : bool
        Whether secondary minima are among them.
    quadratic : bool
        Whether the period may change.

    Returns
    -------
    Ephemeris, or Failed with the reason.
    """
    t = np.asarray(time, dtype=np.float64)
    n, free = len(t), 3 if quadratic else 2
    if n < free:
        return Failed(f"only {counted(n, 'time')}, at least {free} are needed for an ephemeris")
    known = bool(np.isfinite(error).all() and (error > 0).all())
    sigma = np.asarray(error, dtype=np.float64) if known else np.ones(n)
    if epoch is None:
        middle = float(np.average(t, weights=1 / sigma**2))
        epoch = float(t[np.argmin(np.abs(t - middle))])
    cycles = count_cycles(t, period, epoch, halves=halves)
    if isinstance(cycles, Failed):
        return cycles
    if len(set(cycles.tolist())) < free:
        return Failed("the times are of too few cycles")
    columns = [np.ones(n), cycles] + ([cycles**2] if quadratic else [])
    design = np.column_stack(columns) / sigma[:, None]
    left = (t - epoch - period * cycles) / sigma
    solution, *_ = np.linalg.lstsq(design, left, rcond=None)
    residual = left - design @ solution
    chi2 = float(residual @ residual) / (n - free) if n > free else math.nan
    scale = chi2 if not known else max(1.0, chi2) if math.isfinite(chi2) else 1.0
    covariance = np.linalg.inv(design.T @ design) * (scale if math.isfinite(scale) else 1.0)
    spread = np.sqrt(np.diag(covariance))
    if not known and not math.isfinite(scale):
        spread = np.full(free, math.nan)
    curved = solution[2] * cycles**2 if quadratic else np.zeros(n)
    return Ephemeris(
        epoch + float(solution[0]), float(spread[0]), period + float(solution[1]), float(spread[1]),
        float(solution[2]) if quadratic else math.nan, float(spread[2]) if quadratic else math.nan, cycles, residual * sigma,
        np.asarray(error, dtype=np.float64), residual * sigma + curved, chi2 if known else math.nan,
    )  # fmt: skip
