"""The posterior of a model's parameters, drawn by an ensemble of walkers."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.engine import F64Array
from ulvar.lightcurves.joint import TIMES, JointFit, Problem, problem_of

_STRETCH = 2.0
# Steps that are thrown away, those between looks at convergence, and kept at most.
_WALKERS_EACH, _BURN, _LOOK, _MOST = 4, 300, 500, 2000
# A chain of so many autocorrelation times tells its mean and width.
_ENOUGH = 50.0


@dataclass(frozen=True)
class Posterior:
    """Draws of a posterior.

    Attributes
    ----------
    values : dict of str to (float, float, float)
        Median, and distances to the ends of the central 68 %, of what the shape tells.
    autocorrelation : float
        Longest of the values' [steps].
    steps : int
        Kept by each walker.
    acceptance : float
        Share of moves that were taken.
    converged : bool
        Whether the chains are fifty autocorrelation times long.
    """

    values: dict[str, tuple[float, float, float]]
    autocorrelation: float
    steps: int
    acceptance: float
    converged: bool

    def as_json(self) -> dict[str, Any]:
        """Return what the command line prints."""
        return {
            "values": {name: list(three) for name, three in self.values.items()}, "autocorrelation_steps": self.autocorrelation,
            "steps": self.steps, "acceptance": self.acceptance, "converged": self.converged,
        }  # fmt: skip

    @property
    def words(self) -> str:
        """What is said of convergence."""
        length = self.steps / max(self.autocorrelation, 1e-9)
        return (
            f"{self.steps} steps are {length:.0f} autocorrelation times, {100 * self.acceptance:.0f} % of the moves taken: "
            + ("converged" if self.converged else "not converged, the widths are uncertain")
        )


def stretch_moves(
    log_probability: Callable[[F64Array], float], start: F64Array, steps: int, random: np.random.Generator
) -> tuple[F64Array, float]:
    """Draw from a density by an affine-invariant ensemble (Goodman & Weare 2010, CAMCoS 5, 65, sect. 3).

    Parameters
    ----------
    log_probability : callable
        Of one point, shape (dimensions,); minus infinity where it cannot be.
    start : float64 array, shape (walkers, dimensions)
        An even number of walkers, at least twice the dimensions.
    steps : int
    random : Generator

    Returns
    -------
    (chain, acceptance)
        Shape (steps, walkers, dimensions); share of moves that were taken.
    """
    walkers, dimensions = start.shape
    half = walkers // 2
    here = start.copy()
    log = np.array([log_probability(one) for one in here])
    chain = np.empty((steps, walkers, dimensions))
    taken = 0
    for step in range(steps):
        for first in (0, half):
            movers, others = slice(first, first + half), slice(half - first, 2 * half - first)
            z = ((_STRETCH - 1) * random.random(half) + 1) ** 2 / _STRETCH
            partners = here[others][random.integers(0, half, half)]
            there = partners + z[:, None] * (here[movers] - partners)
            new = np.array([log_probability(one) for one in there])
            with np.errstate(invalid="ignore"):
                accept = np.log(random.random(half)) < (dimensions - 1) * np.log(z) + new - log[movers]
            here[movers][accept] = there[accept]
            log[movers] = np.where(accept, new, log[movers])
            taken += int(accept.sum())
        chain[step] = here
    return chain, taken / (steps * walkers)


def autocorrelation_time(chain: F64Array) -> float:
    """Return the longest integrated autocorrelation time of the dimensions of a chain, shape (steps, walkers, dimensions) [steps].

    Sokal's window: sums end where they are as long as five times themselves (Goodman & Weare 2010, sect. 5).
    """
    longest = 1.0
    steps = chain.shape[0]
    for k in range(chain.shape[2]):
        if not np.isfinite(chain[:, :, k]).all():
            continue
        x = chain[:, :, k] - chain[:, :, k].mean()
        size = 1 << (2 * steps - 1).bit_length()
        power = np.abs(np.fft.rfft(x, size, axis=0)) ** 2
        acf = np.fft.irfft(power, axis=0)[:steps].mean(axis=1)
        if acf[0] <= 0:
            continue
        tau = 2 * np.cumsum(acf / acf[0]) - 1
        window = np.flatnonzero(np.arange(steps) >= 5 * tau)
        longest = max(longest, float(tau[window[0]] if len(window) else tau[-1]))
    return longest


def sample_posterior(
    time: F64Array, magnitude: F64Array, error: F64Array, fit: JointFit, trends: Mapping[str, F64Array],
    sessions: Sequence[str] | None = None, *, most: int = _MOST, seed: int = 1,
) -> Posterior:  # fmt: skip
    """Draw the parameters of a fit from their posterior.

    Equal weight for all values within the shape's bounds; linear terms are at their best for each draw. Errors are on the scale of the fit's
    own, correlated noise included.

    Parameters
    ----------
    time, magnitude, error, trends, sessions
        What the fit was made of.
    fit : JointFit
    most : int
        Steps that are kept by each walker at most; it ends when they are fifty times the longest autocorrelation time of what is told.
    seed : int
        Equal seeds, equal draws.
    """
    random = np.random.default_rng(seed)
    problem = problem_of(time, magnitude, error, fit.shape, trends, sessions)
    low, high = fit.shape.bounds(problem.t)
    best, size = fit.parameters, len(fit.parameters)
    base = float((problem.residual(best) ** 2).sum())
    free = max(1, len(problem.t) - size - len(fit.coefficients) - 1 - len(trends))
    scale = base / free * max(1.0, fit.red.factor) ** 2
    if math.isfinite(fit.chi2_reduced):
        # Errors that were told are believed, unless the scatter is larger.
        scale = max(1.0, base / free) * max(1.0, fit.red.factor) ** 2

    def log_probability(p: F64Array) -> float:
        if (p < low).any() or (p > high).any():
            return -math.inf
        return -0.5 * float((problem.residual(p) ** 2).sum()) / scale

    walkers = max(2 * size + 2, _WALKERS_EACH * size)
    walkers += walkers % 2
    width = np.sqrt(np.maximum(np.diag(fit.covariance)[:size], 1e-16))
    # Directions that nothing fixes have no width of their own.
    width = np.minimum(width, 0.1 * (high - low))
    start = np.clip(best + 0.3 * width * random.standard_normal((walkers, size)), low + 1e-9, high - 1e-9)
    walked, _ = stretch_moves(log_probability, start, _BURN, random)
    told: list[F64Array] = []
    names: list[str] = []
    moved, tau = 0.0, math.inf
    while len(told) < most and len(told) <= _ENOUGH * tau:
        walked, acceptance = stretch_moves(log_probability, walked[-1], _LOOK, random)
        moved += acceptance * _LOOK
        for walkers_there in walked:
            many = [_told(problem, p, len(fit.coefficients)) for p in walkers_there]
            names = list(many[0])
            told.append(np.array([list(one.values()) for one in many]))
        # What nobody asks for, a ratio that trades against a share of the light, may wander on.
        tau = autocorrelation_time(np.array(told))
    draws = np.array(told).reshape(-1, len(names))
    values = {}
    for k, name in enumerate(names):
        there = draws[np.isfinite(draws[:, k]), k]
        if len(there) > 0.5 * len(draws):
            low_end, middle, high_end = (float(v) for v in np.percentile(there, [15.87, 50, 84.13]))
            shift = fit.origin if name in TIMES else 0.0
            values[name] = (middle + shift, middle - low_end, high_end - middle)
    return Posterior(values, tau, len(told), moved / len(told), len(told) > _ENOUGH * tau)


def _told(problem: Problem, p: F64Array, columns: int) -> dict[str, float]:
    coefficients, _ = problem.solve(p)
    return problem.shape.values(problem.t, p, coefficients[:columns])
