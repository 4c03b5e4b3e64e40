"""The posterior of a model's parameters, drawn by an ensemble of walkers."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.engine import F64Array, Progress, StopToken, silent
from ulvar.lightcurves.joint import TIMES, JointFit, Problem, problem_of

# So many walkers lend a step its direction; its length over the width of the density, times the root of the dimensions.
_FEW = 3
_WALK = 2.6
# Steps that are thrown away, those between looks at convergence, and kept at most.
_WALKERS_EACH, _BURN, _LOOK, _MOST = 4, 300, 500, 20_000
# Of so many steps one is looked at: neighbours hardly differ.
_THIN = 5
# Draws that are kept to be shown, and steps between two words on how far it is.
_SHOWN, _TOLD_EACH = 4000, 25
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
    draws : dict of str to float64 array
        A few thousand of them for each value, to be drawn.
    """

    values: dict[str, tuple[float, float, float]]
    autocorrelation: float
    steps: int
    acceptance: float
    converged: bool
    draws: Mapping[str, F64Array]

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


def walk_moves(
    log_probability: Callable[[F64Array], float], start: F64Array, steps: int, random: np.random.Generator,
    told: Callable[[], object] = lambda: None,
) -> tuple[F64Array, float]:  # fmt: skip
    """Draw from a density by an affine-invariant ensemble (Goodman & Weare 2010, CAMCoS 5, 65, sect. 3, eq. 11: walk moves).

    Parameters
    ----------
    log_probability : callable
        Of one point, shape (dimensions,); minus infinity where it cannot be.
    start : float64 array, shape (walkers, dimensions)
        An even number of walkers, at least twice the dimensions and two.
    steps : int
    random : Generator
    told : callable
        Called before each step; what it raises ends the walk.

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
    # Each walks by a random combination of what a few of the other half are off from their middle: now along a long, bent ridge, now across.
    size = min(half, _FEW)
    length = _WALK / math.sqrt(dimensions * (size - 1))
    taken = 0
    for step in range(steps):
        told()
        for first in (0, half):
            movers, others = slice(first, first + half), slice(half - first, 2 * half - first)
            few = here[others][np.argsort(random.random((half, half)), axis=1)[:, :size]]
            off = few - few.mean(axis=1, keepdims=True)
            there = here[movers] + length * (random.standard_normal((half, size, 1)) * off).sum(axis=1)
            new = np.array([log_probability(one) for one in there])
            with np.errstate(invalid="ignore"):
                accept = np.log(random.random(half)) < new - log[movers]
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
    sessions: Sequence[str] | None = None, *, most: int = _MOST, seed: int = 1, stop: StopToken | None = None,
    progress: Progress = silent,
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
    stop : StopToken, optional
        Ends it with `StopRequested`.
    progress : Progress
        Told steps, and how many they are at most.
    """
    done = 0

    def step() -> None:
        nonlocal done
        if stop is not None:
            stop.check()
        done += 1
        if done % _TOLD_EACH == 0:
            progress(done, _BURN + most, "Drawing from the posterior")

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

    def log_probability(q: F64Array) -> float:
        made = fit.shape.drawn_from(q)
        if made is None or (made[0] < low).any() or (made[0] > high).any():
            return -math.inf
        return made[1] - 0.5 * float((problem.residual(made[0]) ** 2).sum()) / scale

    walkers = max(2 * size + 2, _WALKERS_EACH * size)
    walkers += walkers % 2
    width = np.sqrt(np.maximum(np.diag(fit.covariance)[:size], 1e-16))
    # Directions that nothing fixes have no width of their own.
    width = np.minimum(width, 0.1 * (high - low))
    start = np.clip(best + 0.3 * width * random.standard_normal((walkers, size)), low + 1e-9, high - 1e-9)
    start = np.array([fit.shape.drawn_as(one) for one in start])
    walked, _ = walk_moves(log_probability, start, _BURN, random, step)
    told: list[F64Array] = []
    names: list[str] = []
    moved, tau = 0.0, math.inf
    while _THIN * len(told) < most and _THIN * len(told) <= _ENOUGH * tau:
        walked, acceptance = walk_moves(log_probability, walked[-1], _LOOK, random, step)
        moved += acceptance * _LOOK
        for walkers_there in walked[::_THIN]:
            many = [
                _told(problem, made[0], len(fit.coefficients))
                for q in walkers_there
                if (made := fit.shape.drawn_from(q)) is not None
            ]
            names = list(many[0])
            told.append(np.array([list(one.values()) for one in many]))
        # What nobody asks for, a ratio that trades against a share of the light, may wander on.
        tau = _THIN * autocorrelation_time(np.array(told))
    draws = np.array(told).reshape(-1, len(names))
    values, shown = {}, {}
    for k, name in enumerate(names):
        there = draws[np.isfinite(draws[:, k]), k]
        if len(there) > 0.5 * len(draws):
            low_end, middle, high_end = (float(v) for v in np.percentile(there, [15.87, 50, 84.13]))
            shift = fit.origin if name in TIMES else 0.0
            values[name] = (middle + shift, middle - low_end, high_end - middle)
            shown[name] = there[:: max(1, len(there) // _SHOWN)] + shift
    steps = _THIN * len(told)
    return Posterior(values, tau, steps, moved / steps, steps > _ENOUGH * tau, shown)


def _told(problem: Problem, p: F64Array, columns: int) -> dict[str, float]:
    coefficients, _ = problem.solve(p)
    return problem.shape.values(problem.t, p, coefficients[:columns])
