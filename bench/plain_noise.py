"""Correlated noise as its definition says: a covariance of all points, its Cholesky factor, what it leaves of the points."""

import math

import numpy as np


def likelihood(
    t: np.ndarray, residual: np.ndarray, slopes: np.ndarray, sigma: np.ndarray, share: float, length: float
) -> tuple[float, np.ndarray, float]:
    """Return the logarithm of the restricted likelihood, covariance of what was fitted, and variance over that told."""
    apart = np.abs(t[:, None] - t[None, :])
    covariance = np.diag(sigma**2) + share * np.median(sigma) ** 2 * np.exp(-apart / length)
    known = np.linalg.inv(covariance)
    information = slopes.T @ known @ slopes
    inverse = np.linalg.inv(information)
    left = residual - slopes @ (inverse @ (slopes.T @ known @ residual))
    free = len(t) - slopes.shape[1]
    s2 = float(left @ known @ left) / free
    log = -0.5 * (
        np.linalg.slogdet(covariance)[1] + np.linalg.slogdet(information)[1] + free * math.log(s2)
    )  # fmt: skip
    return float(log), s2 * inverse, s2
