"""Correlated noise as its definition says: the covariance of all points, its inverse, and what it leaves of the points."""

import math

import numpy as np


def covariance_of(t: np.ndarray, sigma: np.ndarray, share: float, length: float) -> np.ndarray:
    """Return the covariance of all points, of independent noise and of noise that fades exponentially, shape (n, n)."""
    apart = np.abs(t[:, None] - t[None, :])
    return np.asarray(np.diag(sigma**2) + share * np.median(sigma) ** 2 * np.exp(-apart / length))


def likelihood(
    t: np.ndarray, residual: np.ndarray, slopes: np.ndarray, sigma: np.ndarray, share: float, length: float
) -> tuple[float, np.ndarray, float]:
    """Return the logarithm of the restricted likelihood, covariance of what was fitted, and variance over that told."""
    covariance = covariance_of(t, sigma, share, length)
    known = np.linalg.inv(covariance)
    information = slopes.T @ known @ slopes
    inverse = np.linalg.inv(information)
    left = residual - slopes @ (inverse @ (slopes.T @ known @ residual))
    free = len(t) - slopes.shape[1]
    s2 = float(left @ known @ left) / free
    volume = np.linalg.slogdet(covariance)[1] + np.linalg.slogdet(information)[1]
    return -0.5 * (float(volume) + free * math.log(s2)), s2 * inverse, s2
