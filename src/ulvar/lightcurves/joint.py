"""Models and trends fitted together; which trends the points ask for; scatter that is not independent from point to point."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from ulvar.engine import F64Array, Failed, counted
from ulvar.lightcurves.rednoise import Correlated, RedNoise, averaged, correlated_noise, lasts, noise_like
from ulvar.lightcurves.shapes import Shape

# A dip is none when it is shallower than this.
_SHALLOWEST_MAG = 1e-4


@dataclass(frozen=True)
class Trend:
    """A linear term that was fitted together with the model: magnitudes by one standard deviation of the companion, and the error."""

    name: str
    coefficient_mag: float
    error_mag: float


@dataclass(frozen=True)
class JointFit:
    """A fitted model.

    Attributes
    ----------
    kind : str
        Of the shape.
    values, errors : dict of str to float
        What the shape tells; times on the scale of those given. Errors hold the scatter about the model and red noise.
    base_mag : float
        Level of the shape's zero [mag].
    trends : tuple of Trend
    rms_mag : float
        Scatter of the residuals.
    chi2_reduced : float
        NaN when there were no errors to weigh by.
    bic : float
        Schwarz's criterion, of unknown common scale of the errors: n log(residual sum / n) + k log n.
    red : RedNoise
    model_mag, trend_mag : float64 array, shape (n,)
        Model with trends, and trends alone, mean 0.
    origin : float
        Time that `parameters` count from [d].
    parameters, coefficients : float64 array
        As the shape takes them.
    shape : Shape
    sessions : tuple of (str, float, float)
        Name, offset and its error of each session beside the first [mag].
    covariance : float64 array
        Of parameters, coefficients, base and trends.
    noise : tuple of (weight, share, length, scale)
        What the noise may be, see `Correlated`; nothing where it was not looked for.
    """

    kind: str
    values: dict[str, float]
    errors: dict[str, float]
    base_mag: float
    trends: tuple[Trend, ...]
    rms_mag: float
    chi2_reduced: float
    bic: float
    red: RedNoise
    model_mag: F64Array
    trend_mag: F64Array
    origin: float
    parameters: F64Array
    coefficients: F64Array
    shape: Shape
    sessions: tuple[tuple[str, float, float], ...] = ()
    covariance: F64Array = None  # type: ignore[assignment]
    noise: tuple[tuple[float, float, float, float], ...] = ()

    def at(self, time: F64Array) -> F64Array:
        """Return the model without trends [mag]."""
        t = np.asarray(time, dtype=np.float64) - self.origin
        light = self.shape.offset(t, self.parameters)
        columns = self.shape.columns(t, self.parameters)
        return np.asarray(self.base_mag + light + columns @ self.coefficients)

    def noise_like(self, time: F64Array, error: F64Array, count: int) -> F64Array:
        """Draw noise as that of the points may be, shape (count, n) [mag]; `time` and `error` are those that were fitted.

        Raises
        ------
        ValueError
            If noise was not looked for.
        """
        if not self.noise:
            raise ValueError("noise was not looked for in this fit")
        sigma = np.asarray(error, dtype=np.float64) if known_errors(error) else np.ones(len(time))
        return noise_like(np.asarray(time, dtype=np.float64), sigma, self.noise, count)


TIMES = ("mid", "maximum", "minimum", "first_contact", "second_contact", "third_contact", "fourth_contact")


@dataclass(frozen=True)
class Problem:
    """Points, weights and linear columns of a fit."""

    t: F64Array
    y: F64Array
    root: F64Array
    shape: Shape
    fixed: F64Array

    def design(self, p: F64Array) -> F64Array:
        return np.column_stack([self.shape.columns(self.t, p), np.ones(len(self.t)), self.fixed])

    def whitened(self, values: F64Array) -> F64Array:
        """Return values, or columns of them, over their errors; correlated ones are taken apart."""
        if self.root.ndim == 2:
            return self.root @ values
        return self.root * values if values.ndim == 1 else self.root[:, None] * values

    @cached_property
    def _same_design(self) -> tuple[F64Array, F64Array] | None:
        """The columns over their errors, and what solves for them, where no parameter changes them."""
        some = _some(self.shape, self.t)
        if self.shape.columns(self.t[:1], some).shape[1]:
            return None
        design = self.whitened(self.design(some))
        inverse = np.linalg.pinv(design, rcond=float(np.finfo(float).eps) * max(design.shape))
        return design, np.asarray(inverse, dtype=np.float64)

    def solve(self, p: F64Array) -> tuple[F64Array, F64Array]:
        """Return the linear coefficients, and residuals over their errors."""
        left = self.whitened(self.y - self.shape.offset(self.t, p))
        if self._same_design is not None:
            design, inverse = self._same_design
            solution = inverse @ left
            return solution, left - design @ solution
        design = self.whitened(self.design(p))
        solution = np.asarray(np.linalg.lstsq(design, left, rcond=None)[0], dtype=np.float64)
        return solution, left - design @ solution

    def residual(self, p: F64Array) -> F64Array:
        return self.solve(p)[1]


def _searched(problem: Problem, starts: Sequence[F64Array]) -> tuple[F64Array, float]:
    """Return the best parameters and the sum of squares there."""
    if not len(starts[0]):
        return starts[0], float((problem.residual(starts[0]) ** 2).sum())
    from scipy.optimize import least_squares

    low, high = problem.shape.bounds(problem.t)

    def fit(first: F64Array, calls: int):  # type: ignore[no-untyped-def]
        first = np.clip(first, low + 1e-9 * (high - low), high - 1e-9 * (high - low))
        return least_squares(problem.residual, first, bounds=(low, high), x_scale="jac", max_nfev=calls)

    trials = [fit(start, 12) for start in starts] if len(starts) > 1 else []
    best = sorted(trials, key=lambda one: one.cost)[:2]
    ends = [fit(one.x, 80) for one in best] if best else [fit(starts[0], 80)]
    found = min(ends, key=lambda one: one.cost)
    return np.asarray(found.x), 2 * float(found.cost)


def known_errors(error: F64Array) -> bool:
    """Whether all points have an error to weigh by."""
    return bool(len(error)) and bool(np.isfinite(error).all() and (error > 0).all())


def problem_of(
    time: F64Array, magnitude: F64Array, error: F64Array, shape: Shape, trends: Mapping[str, F64Array],
    sessions: Sequence[str] | None,
) -> Problem:  # fmt: skip
    """Return points, weights and linear columns of a fit: trends in units of their scatter, and a step for each session but the first."""
    t = np.asarray(time, dtype=np.float64) - float(np.median(time))
    root = 1 / np.asarray(error, dtype=np.float64) if known_errors(error) else np.ones(len(t))
    names = list(dict.fromkeys(sessions)) if sessions is not None else []
    fixed = [_standard(values) for values in trends.values()]
    fixed += [np.array([one == name for one in sessions or ()], dtype=float) for name in names[1:]]
    return Problem(
        t,
        np.asarray(magnitude, dtype=np.float64),
        root,
        shape,
        np.column_stack(fixed) if fixed else np.empty((len(t), 0)),
    )


def fit_jointly(
    time: F64Array,
    magnitude: F64Array,
    error: F64Array,
    shape: Shape,
    *,
    trends: Mapping[str, F64Array] | None = None,
    sessions: Sequence[str] | None = None,
    start: F64Array | None = None,
    noise: bool = True,
) -> JointFit | Failed:
    """Fit a shape, linear trends and offsets of sessions to a light curve, all at once.

    Parameters
    ----------
    time, magnitude, error : float64 array, shape (n,)
        [d], [mag], [mag]; errors may be NaN, then all points weigh alike.
    shape : Shape
    trends : mapping of str to float64 array, shape (n,)
        Companions whose linear terms are fitted along.
    sessions : sequence of str, length n, optional
        Night or filter of each point: each has a level of its own.
    start : float64 array, optional
        Parameters to begin from, in the place of the shape's own guesses; times from the median of the points.
    noise : bool
        Whether correlated noise is looked for, and counts.

    Returns
    -------
    JointFit, or Failed when the points are too few.

    Notes
    -----
    Linear terms are solved for anew at each step of the search (variable projection, Golub & Pereyra 1973). Where noise is correlated
    the fit is made once more with its covariance. Errors come from the covariance of all terms together, see `correlated_noise`, on the
    scale of the residuals where those scatter by more than their errors.
    """
    trends = dict(trends or {})
    n = len(time)
    if n < 2 or not np.ptp(time) > 0:
        few = f"only {counted(n, 'point')} at one time, there is nothing to fit"
        return Failed(few if n else "there is no point to fit")
    names = list(dict.fromkeys(sessions)) if sessions is not None else []
    problem = problem_of(time, magnitude, error, shape, trends, sessions)
    t, y, root, fixed = problem.t, problem.y, problem.root, problem.fixed
    origin = float(np.median(time))
    weighted = known_errors(error)
    columns = shape.columns(t[:1], _some(shape, t)).shape[1]
    free = len(shape.bounds(t)[0]) + columns + 1 + fixed.shape[1]
    if n < free + 4:
        return Failed(f"only {counted(n, 'point')}, at least {free + 4} are needed for this fit")
    plain = y - _levels(y, names, sessions)
    starts = [start] if start is not None else shape.starts(t, plain)
    if not starts:
        return Failed("there is no dip in the light curve")
    p, squares = _searched(problem, starts)
    coefficients, _ = problem.solve(p)
    dof = max(1, n - free)
    chi2, bic = squares / dof, n * math.log(max(squares, 1e-300) / n) + free * math.log(n)
    covariance, found = None, None
    if noise:
        p, coefficients, covariance, found = _with_noise(problem, p, coefficients, 1 / root)
    model = shape.offset(t, p) + problem.design(p) @ coefficients
    residual = y - model
    if covariance is None:
        slopes = _slopes(problem, p, coefficients) * root[:, None]
        # Directions that the points do not fix are left out.
        covariance = np.linalg.pinv(slopes.T @ slopes, rcond=1e-13) * chi2
    if weighted and chi2 < 1:
        # Errors that were told are believed, unless the scatter is larger.
        covariance = covariance / max(chi2, 1e-6)
    c, rest = coefficients[:columns], coefficients[columns:]
    values = shape.values(t, p, c)
    if values.get("depth_mag", 1.0) < _SHALLOWEST_MAG:
        return Failed(f"no {shape.kind} was found in the light curve")
    errors = {name: _spread(shape, t, p, c, covariance, name) for name in values}
    if noise:
        scale = (max(1.0, chi2) if weighted else chi2) * (1.0 if found is None else max(1.0, found.growth) ** 2)
        for name, apart in _between_rivals(problem, p, squares, values, columns, scale).items():
            errors[name] = math.hypot(errors[name], apart)
    red = averaged(time, residual, found, lasts(values, float(np.ptp(t))))
    trend = fixed @ rest[1:]
    sigma = np.sqrt(np.maximum(np.diag(covariance), 0.0))[len(p) + columns + 1 :]
    told = tuple(Trend(name, float(k), float(e)) for name, k, e in zip(trends, rest[1:], sigma))
    offsets = tuple(
        (name, float(k), float(e)) for name, k, e in zip(names[1:], rest[1 + len(trends) :], sigma[len(trends) :])
    )
    for name in TIMES:
        if name in values:
            values[name] += origin
    return JointFit(
        shape.kind, values, errors, float(rest[0]), told, float(np.std(residual)), chi2 if weighted else math.nan, bic, red,
        model, np.asarray(trend), origin, p, c, shape, offsets, covariance, () if found is None else found.kinds,
    )  # fmt: skip


def _between_rivals(
    problem: Problem, p: F64Array, squares: float, values: Mapping[str, float], columns: int, scale: float
) -> dict[str, float]:
    """Return how far other shapes are from the best, weighed by their likelihood: where points leave the shape open they fit about as well."""
    shape = problem.shape
    weights, others = [1.0], [dict(values)]
    for number, value in shape.rivals(p):
        held = p.copy()
        held[number] = value
        apart = replace(problem, shape=_Held(shape, number, value))
        there, sum_there = _searched(apart, [held])
        c, _ = apart.solve(there)
        weights.append(math.exp(-0.5 * max(0.0, sum_there - squares) / scale))
        others.append(shape.values(problem.t, there, c[:columns]))
    total = sum(weights)
    return {
        name: math.sqrt(
            sum(w * (one[name] - here) ** 2 for w, one in zip(weights, others) if math.isfinite(one[name])) / total
        )
        for name, here in values.items()
        if math.isfinite(here)
    }


@dataclass(frozen=True)
class _Held:
    """A shape one parameter of which keeps to a value."""

    shape: Shape
    number: int
    value: float

    def __getattr__(self, name: str) -> Any:
        return getattr(self.shape, name)

    def bounds(self, t: F64Array) -> tuple[F64Array, F64Array]:
        low, high = self.shape.bounds(t)
        low[self.number], high[self.number] = self.value - 0.01, self.value + 0.01
        return low, high


def _with_noise(
    problem: Problem, p: F64Array, coefficients: F64Array, sigma: F64Array
) -> tuple[F64Array, F64Array, F64Array | None, Correlated | None]:
    """Return the fit with what correlated noise makes of it: parameters, coefficients, covariance, and the noise."""
    residual = problem.y - problem.shape.offset(problem.t, p) - problem.design(p) @ coefficients
    found = correlated_noise(problem.t, residual, _slopes(problem, p, coefficients), sigma)
    if found is None:
        return p, coefficients, None, None
    if found.whitening is not None:
        # Fitted once more, each point with what it knows by itself.
        apart = replace(problem, root=found.whitening)
        p, _ = _searched(apart, [p])
        coefficients, _ = apart.solve(p)
        residual = problem.y - problem.shape.offset(problem.t, p) - problem.design(p) @ coefficients
        again = correlated_noise(problem.t, residual, _slopes(problem, p, coefficients), sigma)
        found = found if again is None else again
    return p, coefficients, found.covariance, found


def _some(shape: Shape, t: F64Array) -> F64Array:
    low, high = shape.bounds(t)
    return np.asarray((low + high) / 2)


def _levels(y: F64Array, names: Sequence[str], sessions: Sequence[str] | None) -> F64Array | float:
    """Return the bright level of each point's session, by which guesses see no steps."""
    if len(names) < 2 or sessions is None:
        return 0.0
    level = {name: float(np.percentile(y[[one == name for one in sessions]], 30)) for name in names}
    return np.array([level[one] for one in sessions])


def _standard(values: F64Array) -> F64Array:
    spread = float(np.std(values))
    varies = spread > 1e-9 * float(np.abs(values).max())
    return np.asarray((values - values.mean()) / spread) if varies else np.zeros(len(values))


def _slopes(problem: Problem, p: F64Array, coefficients: F64Array) -> F64Array:
    """Return the slopes of the model by parameters and coefficients, shape (n, both)."""
    design = problem.design(p)
    here = problem.shape.offset(problem.t, p) + design @ coefficients
    slopes = []
    for k in range(len(p)):
        h = 1e-6 * max(1.0, abs(float(p[k])))
        moved = p.copy()
        moved[k] += h
        slopes.append((problem.shape.offset(problem.t, moved) + problem.design(moved) @ coefficients - here) / h)
    return np.asarray(np.column_stack([*slopes, design]))


def _spread(shape: Shape, t: F64Array, p: F64Array, c: F64Array, covariance: F64Array, name: str) -> float:
    """Return the error of one of the shape's values, by its slopes."""
    both = np.r_[p, c]
    here = shape.values(t, p, c)[name]
    if not math.isfinite(here):
        return math.nan
    high = shape.bounds(t)[1]
    slope = np.zeros(len(both))
    for k in range(len(both)):
        h = 1e-5 * max(1e-2, abs(float(both[k])))
        if k < len(p) and both[k] + h > high[k]:
            h = -h
        moved = both.copy()
        moved[k] += h
        there = shape.values(t, moved[: len(p)], moved[len(p) :])[name]
        slope[k] = (there - here) / h if math.isfinite(there) else 0.0
    part = covariance[: len(both), : len(both)]
    return math.sqrt(max(0.0, float(slope @ part @ slope)))
