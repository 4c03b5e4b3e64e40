"""Periods by the generalised Lomb-Scargle periodogram."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba
import numpy as np

from ulvar.engine import F64Array, Failed


@dataclass(frozen=True)
class PeriodResult:
    """The strongest period.

    Attributes
    ----------
    period_d, period_error_d : float
        [d].
    power : float
        Share of the variance that a sine of this period takes, 0 to 1.
    false_alarm : float
        Probability that noise alone gives as much anywhere in the range searched.
    method : str
    frequencies, powers : float64 array
        The periodogram [1/d], 0 to 1.
    """

    period_d: float
    period_error_d: float
    power: float
    false_alarm: float
    method: str
    frequencies: F64Array
    powers: F64Array


@numba.njit(nogil=True, cache=True)
def _gls(time, value, weight, frequencies, out):
    """Floating-mean periodogram (Zechmeister & Kurster 2009, A&A 496, 577, eqs. 4-15)."""
    mean = 0.0
    for i in range(time.size):
        mean += weight[i] * value[i]
    yy = 0.0
    for i in range(time.size):
        yy += weight[i] * (value[i] - mean) ** 2
    for k in range(frequencies.size):
        omega = 2.0 * math.pi * frequencies[k]
        c = s = yc = ys = cc = cs = 0.0
        for i in range(time.size):
            angle = omega * time[i]
            cosine, sine = math.cos(angle), math.sin(angle)
            w = weight[i]
            y = value[i] - mean
            c += w * cosine
            s += w * sine
            yc += w * y * cosine
            ys += w * y * sine
            cc += w * cosine * cosine
            cs += w * cosine * sine
        ss = 1.0 - cc - s * s
        cc -= c * c
        cs -= c * s
        determinant = cc * ss - cs * cs
        out[k] = (ss * yc * yc + cc * ys * ys - 2.0 * cs * yc * ys) / (yy * determinant) if determinant > 1e-12 else 0.0


def find_period(
    time: F64Array, value: F64Array, error: F64Array, *, shortest_d: float, longest_d: float
) -> PeriodResult | Failed:
    """Find the strongest sinusoidal period in a range.

    Parameters
    ----------
    time, value, error : float64 array, shape (n,)
        [d], any unit, same unit; NaN errors weigh all points alike.
    shortest_d, longest_d : float
        Range of periods [d].

    Returns
    -------
    PeriodResult, or Failed with too few points or no variation.

    Raises
    ------
    ValueError
        If the range is not 0 < shortest < longest.
    """
    if not 0 < shortest_d < longest_d:
        raise ValueError("the period range needs 0 < LOW < HIGH")
    n = len(time)
    if n < 8:
        return Failed(f"only {n} points, at least 8 are needed for a period")
    usable = np.isfinite(error).all() and (error > 0).all()
    weight = 1 / error**2 if usable else np.ones(n)
    weight = weight / weight.sum()
    if float(np.ptp(value)) == 0.0:
        return Failed("the light curve does not vary")
    t = time - time.mean()
    span = float(np.ptp(t))
    low, high = 1 / longest_d, 1 / shortest_d
    count = int(min(400_000, max(200, math.ceil((high - low) * span * 12))))
    frequencies = np.linspace(low, high, count)
    powers = np.empty(count)
    _gls(t, np.ascontiguousarray(value), weight, frequencies, powers)
    top = int(np.argmax(powers))
    fine = np.linspace(frequencies[max(0, top - 1)], frequencies[min(count - 1, top + 1)], 201)
    fine_powers = np.empty(201)
    _gls(t, np.ascontiguousarray(value), weight, fine, fine_powers)
    best = int(np.argmax(fine_powers))
    frequency, power = float(fine[best]), float(min(fine_powers[best], 1 - 1e-15))
    # The chance of this power at one frequency (their eq. 25), for as many independent ones as the range holds.
    single = (1 - power) ** ((n - 3) / 2)
    independent = max(1.0, (high - low) * span)
    false_alarm = -math.expm1(independent * math.log1p(-min(single, 1 - 1e-15)))
    # Frequency error of a sine in noise (Montgomery & O'Donoghue 1999): sqrt(6/n) s / (pi T A).
    noise_over_amplitude = math.sqrt((1 - power) / (2 * power))
    error_f = math.sqrt(6 / n) * noise_over_amplitude / (math.pi * span)
    return PeriodResult(
        period_d=1 / frequency, period_error_d=error_f / frequency**2, power=power, false_alarm=false_alarm,
        method="generalised Lomb-Scargle", frequencies=frequencies, powers=powers,
    )  # fmt: skip
