"""Periods: sines with a floating mean, scatter in phase, boxes; what the sampling makes of them, and how often noise does as much."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from ulvar.engine import F64Array, Failed, counted, in_parts

METHODS = ("sine", "phase", "box")
_NAMES = {
    "sine": "generalised Lomb-Scargle", "phase": "phase dispersion minimisation", "box": "box least squares",
}  # fmt: skip
# Frequencies for each of the independent ones, and in all at most.
_OVERSAMPLED, _MOST = 12, 400_000
_LEAST_POINTS = 8
_PHASE_BINS, _BOX_BINS = 10, 128
# A box lasts between these shares of its period.
_BOX_SHARE = (0.01, 0.2)
# So often the values are put into another order to learn what boxes noise makes.
_SHUFFLES = 24
# Frequencies are handed out to threads in parts of at least so many.
_LEAST_PART = 500


@dataclass(frozen=True)
class PeriodResult:
    """The strongest period.

    Attributes
    ----------
    period_d, period_error_d : float
        [d].
    power : float
        Share of the variance that the period takes, 0 to 1.
    false_alarm : float
        Probability that noise alone gives as much anywhere in the range searched.
    method : str
        In words.
    frequencies, powers : float64 array
        The periodogram [1/d], 0 to 1.
    levels : dict of float to float
        Power that noise alone reaches somewhere in the range with this probability.
    window : float64 array
        Power of the sampling itself at differences of frequency from 0 on by the same steps.
    aliases : tuple of float
        Periods that the sampling makes of the strongest one [d], the likeliest first.
    """

    period_d: float
    period_error_d: float
    power: float
    false_alarm: float
    method: str
    frequencies: F64Array
    powers: F64Array
    levels: dict[float, float] = field(default_factory=dict)
    window: F64Array = field(default_factory=lambda: np.empty(0))
    aliases: tuple[float, ...] = ()


def find_period(
    time: F64Array, value: F64Array, error: F64Array, *, shortest_d: float, longest_d: float, method: str = "sine"
) -> PeriodResult | Failed:
    """Find the strongest period in a range.

    Parameters
    ----------
    time, value, error : float64 array, shape (n,)
        [d], any unit, same unit; NaN errors weigh all points alike. Boxes are looked for upwards: of magnitudes those are dips of the light.
    shortest_d, longest_d : float
        Range of periods [d].
    method : str
        One of `METHODS`: a sine (Zechmeister & Kurster 2009, A&A 496, 577), the least scatter within bins of phase (Stellingwerf 1978,
        ApJ 224, 953), a box (Kovacs, Zucker & Mazeh 2002, A&A 391, 369).

    Returns
    -------
    PeriodResult, or Failed with too few points or no variation.

    Raises
    ------
    ValueError
        If the range is not 0 < shortest < longest, or the method is none of those.

    Notes
    -----
    The chance that noise makes a peak allows for as many independent frequencies as the range holds, one for each 1 / span. Of a sine it is
    that of their eq. 25; of phase bins that of the ratio of variances (F); of a box found by shuffling.
    """
    if not 0 < shortest_d < longest_d:
        raise ValueError("the period range needs 0 < LOW < HIGH")
    if method not in METHODS:
        raise ValueError(f"'{method}' is no way to look for periods; there are {', '.join(METHODS)}")
    n = len(time)
    if n < _LEAST_POINTS:
        return Failed(f"only {counted(n, 'point')}, at least {_LEAST_POINTS} are needed for a period")
    weight = _weights(error)
    if float(np.ptp(value)) == 0.0:
        return Failed("the light curve does not vary")
    t = np.ascontiguousarray(time - time.mean())
    y = np.ascontiguousarray(value, dtype=np.float64)
    span = float(np.ptp(t))
    low, high = 1 / longest_d, 1 / shortest_d
    count = int(min(_MOST, max(200, math.ceil((high - low) * span * _OVERSAMPLED))))
    step = (high - low) / (count - 1)
    search = _SEARCHES[method]
    powers = search(t, y, weight, low, step, count)
    frequencies = np.asarray(low + step * np.arange(count), dtype=np.float64)
    top = int(np.argmax(powers))
    begin = frequencies[max(0, top - 1)]
    fine_step = (frequencies[min(count - 1, top + 1)] - begin) / 200
    fine = search(t, y, weight, float(begin), float(fine_step), 201)
    best = int(np.argmax(fine))
    frequency, power = float(begin + best * fine_step), float(min(fine[best], 1 - 1e-15))
    if method == "box":
        chance = _box_chance(t, y, weight, low, step, count)
    else:
        chance = _anywhere(_sine_chance if method == "sine" else _phase_chance, n, max(1.0, (high - low) * span))
    # Frequency error of a sine in noise (Montgomery & O'Donoghue 1999): sqrt(6/n) s / (pi T A).
    noise_over_amplitude = math.sqrt((1 - power) / (2 * power)) if power > 0 else math.inf
    error_f = math.sqrt(6 / n) * noise_over_amplitude / (math.pi * span)
    window = sampling_window(t, weight, step, count)
    return PeriodResult(
        period_d=1 / frequency, period_error_d=error_f / frequency**2, power=power,
        false_alarm=chance(power), method=_NAMES[method], frequencies=frequencies, powers=powers,
        levels={p: _level(p, chance) for p in (0.1, 0.01, 0.001)}, window=window,
        aliases=_aliases(frequency, window, step, low, high),
    )  # fmt: skip


def _weights(error: F64Array) -> F64Array:
    """Return weights that sum up to 1; alike where errors are not known."""
    usable = bool(np.isfinite(error).all() and (error > 0).all())
    weight = 1 / error**2 if usable else np.ones(len(error))
    return np.ascontiguousarray(weight / weight.sum())


def _parted(size: int, work: Callable[[int, int, F64Array], object]) -> F64Array:
    """Return what `work` fills in for parts of the frequencies."""
    out = np.empty(size)
    in_parts(lambda a, b: work(a, b, out[a:b]), size, smallest=_LEAST_PART)
    return out


def _sines(t: F64Array, y: F64Array, weight: F64Array, first: float, step: float, count: int) -> F64Array:
    from ulvar.lightcurves import _kernels

    return _parted(count, lambda a, b, out: _kernels.gls(t, y, weight, first + a * step, step, out))


def _phases(t: F64Array, y: F64Array, weight: F64Array, first: float, step: float, count: int) -> F64Array:
    from ulvar.lightcurves import _kernels

    counting = weight * len(t)
    bins = max(3, min(_PHASE_BINS, len(t) // 5))
    return 1 - _parted(count, lambda a, b, out: _kernels.pdm(t, y, counting, first + a * step, step, bins, out))


def _boxes(t: F64Array, y: F64Array, weight: F64Array, first: float, step: float, count: int) -> F64Array:
    from ulvar.lightcurves import _kernels

    shortest, longest = max(1, round(_BOX_SHARE[0] * _BOX_BINS)), round(_BOX_SHARE[1] * _BOX_BINS)
    place = np.empty((count, 2), dtype=np.int64)

    def work(a: int, b: int, out: F64Array) -> None:
        _kernels.bls(t, y, weight, first + a * step, step, _BOX_BINS, shortest, longest, out, place[a:b])

    return np.minimum(_parted(count, work), 1.0)


_SEARCHES = {"sine": _sines, "phase": _phases, "box": _boxes}


def _sine_chance(power: float, n: int) -> float:
    return float(max(0.0, 1 - power) ** ((n - 3) / 2))


def _phase_chance(power: float, n: int) -> float:
    from scipy.stats import f

    bins = max(3, min(_PHASE_BINS, n // 5))
    theta = max(1e-12, 1 - power)
    # Variance of all over that within bins (Schwarzenberg-Czerny 1997 gives the beta distribution of this ratio).
    between = (1 - theta * (n - bins) / (n - 1)) / (bins - 1)
    within = theta / (n - 1)
    return float(f.sf(between / within, bins - 1, n - bins)) if between > 0 else 1.0


def _anywhere(chance: Callable[[float, int], float], n: int, independent: float) -> Callable[[float], float]:
    """Return the chance of a power at one of so many frequencies, by that at one."""
    return lambda power: -math.expm1(independent * math.log1p(-min(chance(power, n), 1 - 1e-15)))


def _box_chance(
    t: F64Array, y: F64Array, weight: F64Array, first: float, step: float, count: int
) -> Callable[[float], float]:
    """Return the chance that noise makes a box of some power, by the same values in another order.

    Boxes of few points take so many different ones together that nobody can count the independent ones. The highest power in a
    part of the range, of shuffled values, follows a Gumbel distribution, which the whole range moves upwards.
    """
    random = np.random.default_rng(1)
    part = min(count, max(100, count // (5 * _SHUFFLES)))
    highest = []
    for _ in range(_SHUFFLES):
        order = random.permutation(len(y))
        begin = int(random.integers(0, count - part + 1))
        highest.append(float(_boxes(t, y[order], weight[order], first + begin * step, step, part).max()))
    wide = max(float(np.std(highest, ddof=1)) * math.sqrt(6) / math.pi, 1e-6)
    middle = float(np.mean(highest)) - 0.5772 * wide + wide * math.log(count / part)
    return lambda power: -math.expm1(-math.exp(min(50.0, (middle - power) / wide)))


def _level(probability: float, chance: Callable[[float], float]) -> float:
    """Return the power that noise alone reaches somewhere with a probability."""
    low, high = 0.0, 1.0
    for _ in range(50):
        middle = (low + high) / 2
        if chance(middle) > probability:
            low = middle
        else:
            high = middle
    return high


def sampling_window(t: F64Array, weight: F64Array, step: float, count: int) -> F64Array:
    """Return the power of the sampling itself at frequencies from 0 on by a step [1/d], 1 at 0."""
    from ulvar.lightcurves import _kernels

    return _parted(count, lambda a, b, out: _kernels.spectral_window(t, weight, a * step, step, out))


def _aliases(frequency: float, window: F64Array, step: float, low: float, high: float) -> tuple[float, ...]:
    """Return the periods in the range that lie a peak of the window away, by its power, and half and double the period."""
    peaks = np.flatnonzero((window[1:-1] > window[:-2]) & (window[1:-1] >= window[2:]) & (window[1:-1] > 0.25)) + 1
    peaks = peaks[np.argsort(-window[peaks])][:4]
    found = [abs(frequency + sign * k * step) for k in peaks.tolist() for sign in (-1, 1)]
    found += [frequency / 2, 2 * frequency]
    return tuple(dict.fromkeys(round(1 / f, 9) for f in found if low <= f <= high and abs(f - frequency) > 2 * step))


@dataclass(frozen=True)
class Component:
    """One sine of several: ``amplitude * sin(2 pi (frequency * (t - origin) + phase))``.

    Attributes
    ----------
    frequency, frequency_error : float
        [1/d]
    amplitude, amplitude_error : float
        In the unit of the values.
    phase, phase_error : float
        At `origin`, in periods, 0 to 1.
    false_alarm : float
        Probability that noise alone gives as much, of what the stronger ones left.
    """

    frequency: float
    frequency_error: float
    amplitude: float
    amplitude_error: float
    phase: float
    phase_error: float
    false_alarm: float


@dataclass(frozen=True)
class Prewhitened:
    """Sines taken out one after the other.

    Attributes
    ----------
    components : tuple of Component
        In the order in which they were found.
    origin : float
        Time that phases are of [d].
    model, residual : float64 array, shape (n,)
        All together with the mean, and what they leave.
    """

    components: tuple[Component, ...]
    origin: float
    model: F64Array
    residual: F64Array


def prewhiten(
    time: F64Array,
    value: F64Array,
    error: F64Array,
    *,
    shortest_d: float,
    longest_d: float,
    most: int = 8,
    chance: float = 1e-3,
) -> Prewhitened | Failed:
    """Take sines out, the strongest first, until what is left may be noise; all are fitted together whenever one is added.

    Parameters
    ----------
    time, value, error : float64 array, shape (n,)
        As `find_period`.
    shortest_d, longest_d : float
    most : int
        No more are looked for.
    chance : float
        The last one that is taken has a smaller false-alarm probability.

    Returns
    -------
    Prewhitened, or Failed as `find_period`.
    """
    from scipy.optimize import least_squares

    origin = float(np.mean(time))
    t = np.asarray(time, dtype=np.float64) - origin
    root = np.sqrt(_weights(error) * len(t))
    residual = np.asarray(value, dtype=np.float64)
    frequencies: list[float] = []
    chances: list[float] = []
    covariance = np.empty((0, 0))
    solution = np.array([float(np.average(value, weights=root**2))])
    model = np.full(len(t), solution[0])
    while len(frequencies) < most:
        found = find_period(t, residual, error, shortest_d=shortest_d, longest_d=longest_d)
        if isinstance(found, Failed):
            if not frequencies:
                return found
            break
        if found.false_alarm > chance or len(t) < 3 * (len(frequencies) + 1) + 4:
            break
        frequencies.append(1 / found.period_d)
        chances.append(found.false_alarm)
        start = np.r_[frequencies, _linear(t, value, root, frequencies)]
        fit = least_squares(lambda p: root * (value - _sum_of_sines(t, p)), start, x_scale="jac", max_nfev=60)
        frequencies = fit.x[: len(frequencies)].tolist()
        solution, model = fit.x, _sum_of_sines(t, fit.x)
        residual = np.asarray(value - model)
        free = max(1, len(t) - len(fit.x))
        covariance = np.linalg.pinv(fit.jac.T @ fit.jac) * 2 * fit.cost / free
    m = len(frequencies)
    components = []
    for k in range(m):
        a, b = solution[m + 1 + 2 * k], solution[m + 2 + 2 * k]
        size = math.hypot(a, b)
        part = covariance[np.ix_([m + 1 + 2 * k, m + 2 + 2 * k], [m + 1 + 2 * k, m + 2 + 2 * k])]
        along, across = np.array([a, b]) / size, np.array([-b, a]) / size
        components.append(
            Component(
                float(solution[k]), math.sqrt(float(covariance[k, k])), size, math.sqrt(float(along @ part @ along)),
                (math.atan2(a, b) / (2 * math.pi)) % 1.0, math.sqrt(float(across @ part @ across)) / size / (2 * math.pi),
                chances[k],
            )
        )  # fmt: skip
    return Prewhitened(tuple(components), origin, model, residual)


def _columns(t: F64Array, frequencies: list[float] | F64Array) -> F64Array:
    angles = 2 * math.pi * np.outer(t, frequencies)
    waves = np.stack([np.cos(angles), np.sin(angles)], axis=2).reshape(len(t), -1)
    return np.column_stack([np.ones(len(t)), waves])


def _linear(t: F64Array, value: F64Array, root: F64Array, frequencies: list[float]) -> F64Array:
    """Return mean, and cosine and sine of each frequency, by least squares."""
    solution, *_ = np.linalg.lstsq(root[:, None] * _columns(t, frequencies), root * value, rcond=None)
    return np.asarray(solution)


def _sum_of_sines(t: F64Array, p: F64Array) -> F64Array:
    """Return the sum for frequencies, mean, and cosine and sine of each."""
    m = (len(p) - 1) // 3
    return np.asarray(_columns(t, p[:m]) @ p[m:])
