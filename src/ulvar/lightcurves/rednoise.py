"""Scatter that is not independent from point to point: how much there is, how long it lasts, and what errors become by it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array

# Variances over that of a point, and lengths over the span, that are tried.
_SHARES = (0.0, 0.02, 0.05, 0.1, 0.2, 0.4, 0.8, 1.6, 3.0, 6.0, 12.0)
_LENGTHS = 8
_SHORTEST_STEPS, _LONGEST_SHARE = 2.0, 0.25
# Odds of none against any one share.
_ODDS = 3.0
# Covariances that are less likely than this play no part in draws.
_LIKELY = 0.01
# More points than this are taken together into bins.
MOST = 500
# Bins of the time-averaging plot hold from one point to this share of all.
_LARGEST_SHARE = 0.125


@dataclass(frozen=True)
class RedNoise:
    """Scatter of means over bins beside that of independent points, and the noise that explains it best.

    Attributes
    ----------
    minutes : float64 array, shape (bins,)
        Length of the bins.
    scatter, white : float64 array, shape (bins,)
        Of the means, and what independent points of the same scatter would give [mag].
    share : float
        Variance of the correlated part over that of the independent one.
    minutes_long : float
        How long it lasts [min]; NaN where there is none.
    factor : float
        By how much it makes the error of a mean over what is measured larger, at least 1.
    """

    minutes: F64Array
    scatter: F64Array
    white: F64Array
    share: float
    minutes_long: float
    factor: float


@dataclass(frozen=True)
class Correlated:
    """What restricted likelihood says of the noise.

    Attributes
    ----------
    share, length_d : float
        Of the best covariance: variance over that of a point, length [d].
    covariance : float64 array, shape (k, k)
        Of what was fitted, mean over all covariances that were tried by their likelihood.
    whitening : float64 array, shape (n, n), or None
        Inverse of the Cholesky factor of the best covariance, of points in the order of their times; None where points were taken
        together, or independent noise is likelier.
    kinds : tuple of (weight, share, length, scale)
        Covariances that are likely: how much so, variance over that of a point, length [d], by how much told errors are too small.
    growth : float
        Median ratio of the errors to those that independent noise would give.
    """

    share: float
    length_d: float
    covariance: F64Array
    whitening: F64Array | None
    kinds: tuple[tuple[float, float, float, float], ...]
    growth: float = 1.0


def correlated_noise(t: F64Array, residual: F64Array, slopes: F64Array, sigma: F64Array) -> Correlated | None:
    """Return what correlated noise makes of a fit.

    Parameters
    ----------
    t, residual : float64 array, shape (n,)
        [d], [mag]
    slopes : float64 array, shape (n, k)
        Of the model by what was fitted [mag].
    sigma : float64 array, shape (n,)
        Errors of the points, up to a common factor [mag].

    Returns
    -------
    Correlated, or None where nothing can be said.

    Notes
    -----
    The covariance of the points is ``s^2 (diag(sigma^2) + share median(sigma)^2 exp(-|dt| / length))``; s is that of the
    residuals for each share and length. Shares and lengths are weighed by the restricted likelihood (Harville 1977, JASA 72, 320), which
    does not take what the fit has swallowed for calm; the covariance of the parameters is the mean over them, weighted so: few points do
    not know the noise well.
    """
    n, k = slopes.shape
    if n < k + 8:
        return None
    size = math.ceil(n / MOST)
    order = np.argsort(t)
    if size > 1:
        cut = order[: n // size * size].reshape(-1, size)
        t, residual, slopes = t[cut].mean(axis=1), residual[cut].mean(axis=1), slopes[cut].mean(axis=1)
        sigma = np.sqrt((sigma[cut] ** 2).mean(axis=1) / size)
    n = len(t)
    if n < k + 8:
        return None
    # Directions in which nothing is known would be infinite in the determinant.
    scale = np.sqrt((slopes**2).sum(axis=0))
    used = scale > 1e-12 * max(float(scale.max()), 1e-300)
    span, step = float(np.ptp(t)), float(np.median(np.diff(np.sort(t))))
    shortest = max(_SHORTEST_STEPS * step, span / 300)
    lengths = np.geomspace(shortest, max(_LONGEST_SHARE * span, 1.5 * shortest), _LENGTHS)
    # Where there is none its length says nothing.
    tried = np.array([(share, length) for length in lengths for share in _SHARES if share or length == lengths[0]])
    unit = float(np.median(sigma)) ** 2
    white, deviation = _told_apart(
        t, np.column_stack([slopes[:, used] / scale[used], residual]), sigma**2, unit * tried[:, 0], tried[:, 1]
    )
    if not np.isfinite(white).all():
        return None
    a, left = white[:, :, :-1], white[:, :, -1]
    values, vectors = np.linalg.eigh(a.transpose(0, 2, 1) @ a)
    good = values > 1e-10 * values.max(axis=1, keepdims=True)
    safe = np.where(good, values, 1.0)
    inverse = (vectors * np.where(good, 1 / safe, 0.0)[:, None, :]) @ vectors.transpose(0, 2, 1)
    fitted = np.einsum("cjk,cik,ci->cj", inverse, a, left)
    left = left - np.einsum("cik,ck->ci", a, fitted)
    free = np.maximum(1, n - good.sum(axis=1))
    s2 = (left**2).sum(axis=1) / free
    logs = (
        -np.log(deviation).sum(axis=1)
        - 0.5 * np.log(safe).sum(axis=1)
        - 0.5 * free * np.log(np.maximum(s2, 1e-300))
        # Lengths share the weight of a share; that there is none is as likely as three steps of it.
        - np.where(tried[:, 0] > 0, math.log(_LENGTHS * _ODDS), 0.0)
    )
    weight = np.exp(logs - logs.max())
    weight /= weight.sum()
    each = s2[:, None, None] * inverse
    mean = np.einsum("c,cjk->jk", weight, each)
    covariance = np.zeros((k, k))
    place = np.flatnonzero(used)
    covariance[np.ix_(place, place)] = mean / np.outer(scale[used], scale[used])
    share, length = (float(value) for value in tried[int(np.argmax(logs))])
    growth = float(np.median(np.sqrt(np.diag(mean) / np.maximum(np.diag(each[0]), 1e-300))))
    whitening = None
    if size == 1 and share > 0:
        whitening = _told_apart(t, np.eye(n), sigma**2, np.array([share * unit]), np.array([length]))[0][0]
    # Bins have a smaller variance than their points.
    kinds = tuple(
        (float(w), float(one[0]) / size, float(one[1]), math.sqrt(scatter))
        for w, one, scatter in zip(weight, tried, s2)
        if w > _LIKELY
    )
    return Correlated(share, length if share > 0 else math.nan, covariance, whitening, kinds, growth)


def _told_apart(
    t: F64Array, told: F64Array, variance: F64Array, depth: F64Array, length: F64Array
) -> tuple[F64Array, F64Array]:
    """Take correlated noise apart: what each point tells that those before it did not, over its deviation.

    Parameters
    ----------
    t, variance : float64 array, shape (n,)
        Times [d]; variance of the independent noise.
    told : float64 array, shape (n, k)
        Columns.
    depth, length : float64 array, shape (m,)
        Variance and length [d] of the exponential covariance of each noise.

    Returns
    -------
    (white, deviation)
        float64 arrays, shape (m, n, k) and (m, n), points in the order of their times. The deviations' product is the root of the
        covariance's determinant.

    Notes
    -----
    Noise of an exponential covariance knows of its past nothing but its last value, so that the Cholesky factor need not be
    made: a filter goes once over the points (Kalman 1960, J. Basic Eng. 82, 35; for this covariance Rybicki & Press 1995,
    Phys. Rev. Lett. 74, 1060).
    """
    order = np.argsort(t, kind="stable")
    white = np.empty((len(t), len(depth), told.shape[1]))
    deviation = np.empty((len(t), len(depth)))
    kept = np.exp(-np.diff(t[order], prepend=-math.inf)[:, None] / length)
    expected = np.zeros(white.shape[1:])
    spread = depth
    for i, point in enumerate(order):
        k = kept[i]
        expected = k[:, None] * expected
        spread = depth + k**2 * (spread - depth)
        full = spread + variance[point]
        deviation[i] = np.sqrt(full)
        news = told[point] - expected
        white[i] = news / deviation[i][:, None]
        expected += (spread / full)[:, None] * news
        spread = spread * (variance[point] / full)
    return white.transpose(1, 0, 2), deviation.T


def noise_like(
    t: F64Array, sigma: F64Array, kinds: Sequence[tuple[float, float, float, float]], count: int
) -> F64Array:
    """Draw noise as `Correlated.kinds` tells it; equal arguments give equal draws.

    Parameters
    ----------
    t, sigma : float64 array, shape (n,)
        [d], [mag]
    kinds : sequence of (weight, share, length, scale)
        As in `Correlated`.
    count : int

    Returns
    -------
    float64 array, shape (count, n)
        [mag]

    Notes
    -----
    The correlated part is a first-order autoregression over the true steps of time, whose covariance is the exponential one exactly.
    """
    rng = np.random.default_rng(1)
    order = np.argsort(t)
    weights = np.array([kind[0] for kind in kinds])
    chosen = rng.choice(len(kinds), count, p=weights / weights.sum())
    share, length, scale = (np.array([kinds[k][i] for k in chosen]) for i in (1, 2, 3))
    noise = rng.normal(0, 1, (count, len(t)))
    made = noise * sigma[order]
    held = np.zeros(count)
    steps = np.diff(t[order], prepend=-math.inf)
    deep = float(np.median(sigma)) * np.sqrt(share)
    fresh = rng.normal(0, 1, (count, len(t)))
    for k, step in enumerate(steps):
        kept = np.exp(-step / length)
        held = kept * held + np.sqrt(1 - kept**2) * fresh[:, k]
        made[:, k] += deep * held
    out = np.empty_like(made)
    out[:, order] = made
    return np.asarray(scale[:, None] * out)


def averaged(time: F64Array, residual: F64Array, found: Correlated | None, lasts_d: float) -> RedNoise:
    """Return the scatter of means over bins (Winn et al. 2008, ApJ 683, 1076, sect. 3) beside the noise that was found.

    Parameters
    ----------
    time, residual : float64 array, shape (n,)
        [d], [mag]
    found : Correlated or None
    lasts_d : float
        How long what is measured lasts [d].
    """
    share = 0.0 if found is None else found.share
    length = math.nan if found is None else found.length_d
    order = np.argsort(time)
    t, r = np.asarray(time)[order], np.asarray(residual)[order]
    n = len(t)
    step = float(np.median(np.diff(t))) if n > 1 else 0.0
    minutes, scatter, white = [], [], []
    if step > 0:
        gaps = np.flatnonzero(np.diff(t) > 5 * step) + 1
        parts = np.split(r, gaps)
        single = float(np.std(r, ddof=1))
        for size in sorted({max(1, round(s)) for s in np.geomspace(1, max(1.0, n * _LARGEST_SHARE), 16)}):
            # No bin reaches over a gap.
            means = np.concatenate([p[: len(p) // size * size].reshape(-1, size).mean(axis=1) for p in parts])
            if len(means) < 4:
                break
            minutes.append(1440 * size * step)
            scatter.append(float(np.sqrt(np.mean(means**2))))
            white.append(single / math.sqrt(size))
    factor = 1.0
    if share > 0 and step > 0:
        count = max(1.0, lasts_d / step)
        x = lasts_d / length
        # Variance of the mean of an exponentially correlated process over a time, over that of independent points.
        kept = 2 / x**2 * (x - 1 + math.exp(-x)) if x > 1e-6 else 1.0
        factor = math.sqrt(1 + share * kept * count)
    return RedNoise(np.array(minutes), np.array(scatter), np.array(white), share, 1440 * length, factor)


def lasts(values: Mapping[str, float], span: float) -> float:
    """Return how long what is measured lasts [d]: the time over which red noise counts."""
    for name, share in (("ingress_d", 1.0), ("duration_d", 0.25), ("period_d", 0.25)):
        length = values.get(name, math.nan)
        if math.isfinite(length) and length > 0:
            return min(share * length, 0.25 * span)
    return 0.05 * span
