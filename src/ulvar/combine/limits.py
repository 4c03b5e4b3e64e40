"""Limits of a rejection from the number of good values it may lose, so that they suit any count of frames."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from ulvar.combine.combine import combine_stack
from ulvar.combine.rejection import Method, Rejection

# Pixels of pure noise that a limit is tried on. A hundredth of a value lost at each gives 160 losses, known to 8 %,
# and the limit to 0.02 of the spread.
_TRIED = 16384
_SEED = 71
_JUDGED_ALONE = 4
_LOWEST, _HIGHEST = 1.5, 40.0


def suited(rejection: Rejection, frames: int) -> Rejection:
    """Return the rejection with the limits that are not given found for so many frames.

    A limit of k spreads loses good values too: N normal values have N P(abs(z) > k) of them outside. That number,
    `Rejection.lost`, is what is chosen, and k follows from it (the reasoning of Chauvenet's criterion: Taylor 1997,
    An Introduction to Error Analysis, section 6.2, with another number than one half). The spread is not known
    beforehand but comes from the same few values, and rejection is repeated; so k is not read from a normal
    distribution: the method itself is tried on noise, and the limit taken at which it loses the wanted number.

    Parameters
    ----------
    rejection : Rejection
    frames : int

    Returns
    -------
    Rejection
        With both limits; the same object where both were given.
    """
    if rejection.low is not None and rejection.high is not None:
        return rejection
    limit = limit_for(rejection.method, frames, rejection.lost)
    return replace(
        rejection,
        low=limit if rejection.low is None else rejection.low,
        high=limit if rejection.high is None else rejection.high,
    )


@lru_cache(maxsize=256)
def limit_for(method: Method, frames: int, lost: float) -> float:
    """Return the limit, alike on both sides, at which a method loses so many good values a pixel.

    Parameters
    ----------
    method : Method
    frames : int
    lost : float
        Good values that may be lost at each pixel, expected.

    Returns
    -------
    float
        In units of the method's spread, to 0.01; between 1.5 and 40.
    """
    normal = -NormalDist().inv_cdf(min(0.5 * lost / max(1, frames), 0.25))
    if method in (Method.MEAN, Method.MEDIAN) or frames < _JUDGED_ALONE:
        # These reject nothing by a spread of their own.
        return round(min(max(normal, _LOWEST), _HIGHEST), 2)
    pixels = max(_TRIED // 8, min(_TRIED, 4_000_000 // frames))
    noise = np.random.default_rng(_SEED).standard_normal((frames, pixels // 64, 64), dtype=np.float32)
    wanted = lost * noise[0].size

    def excess(limit: float) -> float:
        tried = combine_stack(noise, rejection=Rejection(method, limit, limit))
        return float((tried.rejected_low + tried.rejected_high).sum()) - wanted

    low, high = _LOWEST, _HIGHEST
    # The tail of a normal distribution halves within a tenth of a spread: first a step about where it should be.
    while high - low > 0.01:
        middle = math.sqrt(low * high) if high > 2 * low else 0.5 * (low + high)
        if excess(middle) > 0:
            low = middle
        else:
            high = middle
    return round(high, 2)
