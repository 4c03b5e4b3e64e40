"""A symmetric template for eclipses, fitted together with linear trends."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from ulvar.engine import F64Array, Failed


@dataclass(frozen=True)
class TemplateShape:
    """Mid-time, width [d] and kurtosis of the template."""

    mid: float
    width: float
    gamma: float


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
        Time between the points where the template is 2 % of its depth [d].
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


def eclipse_template(time: F64Array, shape: TemplateShape) -> F64Array:
    """Unit-depth eclipse template, 1 at mid-eclipse and 0 far outside.

    Mikulasek 2015, A&A 584, A8, eq. 4: ``1 - (1 - exp(1 - cosh((t - t0) / d)))^gamma``.
    """
    phase = np.clip((time - shape.mid) / shape.width, -30, 30)
    return np.asarray(1 - (1 - np.exp(1 - np.cosh(phase))) ** shape.gamma)


def _duration(width: float, gamma: float, share: float = 0.02) -> float:
    inner = 1 - (1 - share) ** (1 / gamma)
    return 2 * width * math.acosh(1 - math.log(max(inner, 1e-300)))


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
    it exceeds 1, so that a poor model does not look precise.
    """
    n = len(time)
    free = 5 + len(trends)
    if n < free + 4:
        return Failed(f"only {n} points, at least {free + 4} are needed for an eclipse fit")
    origin = float(np.median(time))
    t = time - origin
    sigma = error if np.isfinite(error).all() and (error > 0).all() else np.ones(n)
    standard = [_standard(trend) for trend in trends]
    base = float(np.percentile(magnitude, 20))
    order = np.argsort(t)
    # A running median shows where the light is lowest without being caught by one bad point.
    width = max(3, n // 15) | 1
    smooth = np.array([np.median(magnitude[order][max(0, i - width // 2) : i + width // 2 + 1]) for i in range(n)])
    start_mid = float(t[order][np.argmax(smooth)])
    depth = float(smooth.max() - base)
    span = float(np.ptp(t))
    if depth <= 0:
        return Failed("there is no dip in the light curve")

    def model(p: F64Array) -> F64Array:
        curve = p[0] + p[1] * eclipse_template(t, TemplateShape(p[2], math.exp(p[3]), math.exp(p[4])))
        for coefficient, trend in zip(p[5:], standard):
            curve = curve + coefficient * trend
        return curve

    best = None
    for fraction in (0.05, 0.12, 0.25):
        first = np.concatenate([[base, depth, start_mid, math.log(fraction * span), 0.0], np.zeros(len(trends))])
        # A plain fit after a robust start: the robust one finds the dip in spite of outliers.
        rough = least_squares(lambda p: (magnitude - model(p)) / sigma, first, loss="soft_l1", max_nfev=400)
        fit = least_squares(lambda p: (magnitude - model(p)) / sigma, rough.x, max_nfev=400)
        if best is None or fit.cost < best.cost:
            best = fit
    assert best is not None
    base_fit, depth_fit, mid, log_width, log_gamma = best.x[:5]
    if depth_fit <= 0 or not t.min() <= mid <= t.max():
        return Failed("no eclipse was found in the light curve")
    dof = max(1, n - free)
    chi2 = 2 * float(best.cost) / dof
    try:
        covariance = np.linalg.inv(best.jac.T @ best.jac)
    except np.linalg.LinAlgError:
        return Failed("the points do not fix the eclipse's shape")
    weighted = sigma is error
    covariance = covariance * (max(1.0, chi2) if weighted else chi2)
    errors = np.sqrt(np.maximum(np.diag(covariance), 0))
    trend = sum((c * s for c, s in zip(best.x[5:], standard)), np.zeros(n))
    curve = model(best.x)
    duration = _duration(math.exp(log_width), math.exp(log_gamma))
    steps = [
        _duration(math.exp(log_width + 1e-4), math.exp(log_gamma)) - duration,
        _duration(math.exp(log_width), math.exp(log_gamma + 1e-4)) - duration,
    ]
    gradient = np.array(steps) / 1e-4
    duration_error = math.sqrt(max(0.0, float(gradient @ covariance[3:5, 3:5] @ gradient)))
    return EclipseFit(
        mid=origin + float(mid), mid_error=float(errors[2]), depth_mag=float(depth_fit),
        depth_error_mag=float(errors[1]), duration_d=duration, duration_error_d=duration_error,
        base_mag=float(base_fit), rms_mag=float(np.std(magnitude - curve)),
        chi2_reduced=chi2 if weighted else math.nan, model_mag=curve, trend_mag=np.asarray(trend),
        shape=TemplateShape(origin + float(mid), math.exp(log_width), math.exp(log_gamma)),
    )  # fmt: skip


def _standard(values: F64Array) -> F64Array:
    spread = float(np.std(values))
    return np.asarray((values - values.mean()) / spread) if spread > 0 else np.zeros(len(values))
