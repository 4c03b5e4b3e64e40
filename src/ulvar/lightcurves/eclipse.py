"""A symmetric eclipse template from two discs, fitted together with linear trends."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ulvar.engine import F64Array, Failed

if TYPE_CHECKING:
    from scipy.optimize import OptimizeResult

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


@dataclass(frozen=True)
class EclipseFit:
    """A fitted eclipse.

    Attributes
    ----------
    mid, mid_error : float
        [d] in the scale of the times given.
    depth_mag, depth_error_mag : float
        Template depth [mag].
    duration_d, duration_error_d : float
        First to last contact [d].
    base_mag : float
        Outside eclipse [mag].
    rms_mag : float
        Scatter of the residuals [mag].
    chi2_reduced : float
        NaN when there were no errors to weigh by.
    model_mag : float64 array
        Template and trend at the given times [mag].
    trend_mag : float64 array
        The linear terms alone, mean 0 [mag].
    shape : TemplateShape
    """

    mid: float
    mid_error: float
    depth_mag: float
    depth_error_mag: float
    duration_d: float
    duration_error_d: float
    base_mag: float
    rms_mag: float
    chi2_reduced: float
    model_mag: F64Array
    trend_mag: F64Array
    shape: TemplateShape


def _common_area(d: F64Array, a: F64Array, b: float) -> F64Array:
    """Area common to two discs of radii a and b at distance d."""
    d = np.maximum(d, 1e-12)
    alpha = np.arccos(np.clip((d * d + a * a - b * b) / (2 * d * a), -1, 1))
    beta = np.arccos(np.clip((d * d + b * b - a * a) / (2 * d * b), -1, 1))
    area = a * a * (alpha - np.sin(alpha) * np.cos(alpha)) + b * b * (beta - np.sin(beta) * np.cos(beta))
    return np.where(d >= a + b, 0.0, np.where(d <= np.abs(a - b), math.pi * np.minimum(a, b) ** 2, area))


def eclipse_template(time: F64Array, shape: TemplateShape) -> F64Array:
    """Dimming [mag] of an eclipse, 0 outside.

    The eclipsed disc is darkened to its limb by I = 1 - 0.5 (1 - mu), as a pile of uniform discs whose
    weights are Gauss-Legendre nodes in mu; shape and depth are otherwise free, so the template follows
    partial, total and annular minima.
    """
    reach = 1 + shape.ratio
    low = shape.impact * reach
    speed = math.sqrt(max(reach**2 - low**2, 1e-12)) / shape.half_length
    distance = np.hypot(low, speed * (np.asarray(time) - shape.mid))
    hidden = _LIGHT @ _common_area(distance[None, :], _RADII[:, None], shape.ratio) / _WHOLE
    return np.asarray(-2.5 * np.log10(np.maximum(1 - shape.share * hidden, 1e-6)))


def _shape(p: F64Array, origin: float = 0.0) -> TemplateShape:
    return TemplateShape(origin + float(p[1]), math.exp(p[2]), math.exp(p[3]), float(p[4]), float(p[5]))


def _depth(p: F64Array) -> float:
    shape = _shape(p)
    return float(eclipse_template(np.array([shape.mid]), shape)[0])


def fit_eclipse(
    time: F64Array, magnitude: F64Array, error: F64Array, *, trends: Sequence[F64Array] = ()
) -> EclipseFit | Failed:
    """Fit the eclipse template and linear terms to a light curve.

    Parameters
    ----------
    time, magnitude, error : float64 array, shape (n,)
        [d], [mag], [mag]; errors may be NaN, then all points weigh alike.
    trends : sequence of float64 array, shape (n,)
        Companions whose linear terms are fitted together with the eclipse (airmass, FWHM, ...).

    Returns
    -------
    EclipseFit, or Failed when the points do not show an eclipse.

    Notes
    -----
    Errors are those of the covariance matrix, scaled up by the square root of the reduced chi-squared where
    it exceeds 1, so that a poor model does not look precise. Ratio, impact and share trade against each other;
    the depth and its error are taken from the curve they make, not from any one of them. Where points are few
    near mid-eclipse, other shapes (total, partial) may fit about as well; they widen the errors by their own
    distance from the best, weighted by likelihood.
    """
    from scipy.optimize import least_squares

    n = len(time)
    free = 6 + len(trends)
    if n < free + 4:
        return Failed(f"only {n} points, at least {free + 4} are needed for an eclipse fit")
    origin = float(np.median(time))
    t = time - origin
    weighted = bool(np.isfinite(error).all() and (error > 0).all())
    sigma = error if weighted else np.ones(n)
    standard = [_standard(trend) for trend in trends]
    base, depth, start_mid = _first_look(t, magnitude)
    span = float(np.ptp(t))
    if depth <= 0 or span <= 0:
        return Failed("there is no dip in the light curve")

    def model(p: F64Array) -> F64Array:
        curve = p[0] + eclipse_template(t, _shape(p))
        for coefficient, trend in zip(p[6:], standard):
            curve = curve + coefficient * trend
        return curve

    lower, upper = np.full(free, -np.inf), np.full(free, np.inf)
    lower[1:6] = (t.min(), math.log(2e-3 * span), math.log(0.15), 0.0, 1e-4)
    upper[1:6] = (t.max(), math.log(3 * span), math.log(4.0), 0.98, 1.0)

    def fit(first: F64Array, calls: int, bounds: tuple[F64Array, F64Array] = (lower, upper)) -> OptimizeResult:
        first = np.clip(first, bounds[0] + 1e-9, bounds[1] - 1e-9)
        return least_squares(
            lambda p: (magnitude - model(p)) / sigma, first, bounds=bounds, x_scale="jac", max_nfev=calls
        )

    light = 1 - 10 ** (-0.4 * depth)
    trials = []
    for ratio, impact in ((0.8, 0.2), (1.0, 0.45), (0.5, 0.1)):
        for part in (0.12, 0.3):
            share = min(0.95, 1.6 * light / min(1.0, ratio**2))
            first = np.concatenate(
                [
                    [base, start_mid, math.log(part * span), math.log(ratio), impact, share],
                    np.zeros(len(trends)),
                ]
            )
            trials.append(fit(first, 12))
    best = min((fit(trial.x, 80) for trial in sorted(trials, key=lambda f: f.cost)[:2]), key=lambda f: f.cost)
    solutions = [best]
    for impact in (0.05, 0.25, 0.45, 0.65):
        # Likelihood along the shape that points near mid-eclipse would fix.
        held = best.x.copy()
        held[4] = impact
        narrow = lower.copy(), upper.copy()
        narrow[0][4], narrow[1][4] = impact - 0.01, impact + 0.01
        solutions.append(fit(held, 15, narrow))
    if _depth(best.x) < 1e-4:
        return Failed("no eclipse was found in the light curve")
    dof = max(1, n - free)
    chi2 = 2 * float(best.cost) / dof
    # The pseudo-inverse leaves out directions that the points do not fix (ratio against impact).
    covariance = np.linalg.pinv(best.jac.T @ best.jac, rcond=1e-12) * (max(1.0, chi2) if weighted else chi2)
    shape = _shape(best.x, origin)
    other = _spread_of_solutions(solutions, max(1.0, chi2) if weighted else chi2)
    trend = sum((c * s for c, s in zip(best.x[6:], standard)), np.zeros(n))
    curve = model(best.x)
    return EclipseFit(
        mid=shape.mid, mid_error=math.hypot(_error(covariance, np.eye(free)[1]), other[0]), depth_mag=_depth(best.x),
        depth_error_mag=math.hypot(_error(covariance, _gradient(_depth, best.x)), other[1]),
        duration_d=2 * shape.half_length,
        duration_error_d=2 * math.hypot(shape.half_length * _error(covariance, np.eye(free)[2]), other[2]),
        base_mag=float(best.x[0]), rms_mag=float(np.std(magnitude - curve)),
        chi2_reduced=chi2 if weighted else math.nan, model_mag=curve, trend_mag=np.asarray(trend),
        shape=shape,
    )  # fmt: skip


def _spread_of_solutions(solutions: Sequence[OptimizeResult], scale: float) -> tuple[float, float, float]:
    """Likelihood-weighted distance of the other solutions from the best in mid-time, depth and half length."""
    best = solutions[0]
    here = (float(best.x[1]), _depth(best.x), math.exp(best.x[2]))
    total, squares = 0.0, [0.0, 0.0, 0.0]
    for solution in solutions:
        # The cost is half of chi-squared; like the covariance it is scaled where the model does not fit.
        weight = math.exp(-(solution.cost - best.cost) / scale)
        there = (float(solution.x[1]), _depth(solution.x), math.exp(solution.x[2]))
        total += weight
        for k in range(3):
            squares[k] += weight * (there[k] - here[k]) ** 2
    return math.sqrt(squares[0] / total), math.sqrt(squares[1] / total), math.sqrt(squares[2] / total)


def _first_look(t: F64Array, magnitude: F64Array) -> tuple[float, float, float]:
    """Return base, depth and time of the dip; a running median is not caught by one bad point."""
    order = np.argsort(t)
    half = max(1, len(t) // 30)
    smooth = np.array([np.median(magnitude[order][max(0, i - half) : i + half + 1]) for i in range(len(t))])
    base = float(np.percentile(magnitude, 20))
    return base, float(smooth.max() - base), float(t[order][np.argmax(smooth)])


def _gradient(function: Callable[[F64Array], float], p: F64Array) -> F64Array:
    result = np.zeros(len(p))
    for k in range(1, 6):
        h = 1e-5 * max(1.0, abs(p[k]))
        moved = p.copy()
        moved[k] += h
        result[k] = (function(moved) - function(p)) / h
    return result


def _error(covariance: F64Array, gradient: F64Array) -> float:
    return math.sqrt(max(0.0, float(gradient @ covariance @ gradient)))


def _standard(values: F64Array) -> F64Array:
    spread = float(np.std(values))
    # A constant has a spread of some rounding, which is no trend.
    varies = spread > 1e-9 * float(np.abs(values).max())
    return np.asarray((values - values.mean()) / spread) if varies else np.zeros(len(values))
