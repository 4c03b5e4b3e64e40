"""Spread and noise of pixels, robust against stars and hot pixels."""

from __future__ import annotations

import math

import numpy as np

# Standard deviation of a normal distribution over its median absolute deviation.
MAD_TO_SIGMA = 1.4826
# Standard deviation over that of what clipping at three deviations leaves.
CLIPPED_TO_SIGMA = 1.0135


def robust_spread(values: np.ndarray, *, about: float | None = None) -> float:
    """Return the standard deviation of values by their median absolute deviation.

    Parameters
    ----------
    values : array
        NaN and infinities are passed over.
    about : float, optional
        What deviations are from; the median unless given.

    Returns
    -------
    float
        NaN without any value.

    Examples
    --------
    >>> round(robust_spread(np.array([1.0, 2.0, 3.0, 4.0, 100.0])), 4)
    1.4826
    """
    finite = values[np.isfinite(values)]
    if not finite.size:
        return math.nan
    middle = np.median(finite) if about is None else about
    return MAD_TO_SIGMA * float(np.median(np.abs(finite - middle)))


def difference_noise(data: np.ndarray, *, apart: int = 2, thin: int = 1) -> float:
    """Return the noise of a pixel from the differences of neighbours along rows; stars hardly count.

    Parameters
    ----------
    data : float32 array, shape (height, width)
    apart : int
        Columns between neighbours [px]; 2 stays within one colour of a mosaic.
    thin : int
        Only every so manieth difference is looked at.

    Returns
    -------
    float
        In the unit of `data`; NaN without any pair.
    """
    difference = (data[:, apart:] - data[:, :-apart]).ravel()[::thin]
    return robust_spread(difference, about=0.0) / math.sqrt(2)
