"""How a stack's noise falls with the number of exposures, measured on parts of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.combine import Method, Rejection, RowSource, combine_stack
from ulvar.engine import F64Array, StopToken
from ulvar.frames.noise import difference_noise

# Rows that are looked at lie in so many bands: a twentieth of a small stack, and never more pixels than make the noise
# known to half a percent.
_BANDS, _SHARE, _PIXELS = 3, 0.05, 120_000
_STEPS = 14


@dataclass(frozen=True)
class Growth:
    """Noise of stacks of the best exposures.

    Attributes
    ----------
    counts : tuple of int
        How many exposures, those of most weight first.
    noise_adu : tuple of float
        Noise of a pixel of their stack, measured [ADU].
    expected_adu : tuple of float
        What the noise of each exposure alone foretells: independent noise, nothing rejected [ADU].
    """

    counts: tuple[int, ...]
    noise_adu: tuple[float, ...]
    expected_adu: tuple[float, ...]


def noise_growth(
    sources: Sequence[RowSource], weights: F64Array, rejection: Rejection, *, stop: StopToken | None = None
) -> Growth:
    """Stack the best exposures, ever more of them, on some rows, and measure the noise.

    Parameters
    ----------
    sources : sequence of RowSource
        On one grid, brought to one level and scale.
    weights : float64 array, shape (exposures,)
    rejection : Rejection
        With both limits.
    stop : StopToken, optional
        Looked at before each stack.
    """
    height, n = sources[0].height, len(sources)
    most = _PIXELS // (_BANDS * sources[0].width)
    rows = max(1, min(most, round(_SHARE * height / _BANDS)))
    starts = [round((height - rows) * (band + 1) / (_BANDS + 1)) for band in range(_BANDS)]
    best = np.argsort(-weights, kind="stable")
    part = np.concatenate([np.stack([sources[i].rows(y, y + rows) for i in best]) for y in starts], axis=1)
    alone = np.array([difference_noise(one) for one in part])
    counts = sorted({round(float(c)) for c in np.geomspace(1, n, _STEPS)}) if n > _STEPS else list(range(1, n + 1))
    noise, expected = [], []
    for k in counts:
        if stop is not None:
            stop.check()
        share = weights[best[:k]]
        wanted = None if rejection.method is Method.MEDIAN else [float(w) for w in share]
        noise.append(difference_noise(combine_stack(part[:k], rejection=rejection, weights=wanted).data))
        expected.append(float(np.sqrt((share**2) @ alone[:k] ** 2) / share.sum()))
    return Growth(tuple(counts), tuple(noise), tuple(expected))
