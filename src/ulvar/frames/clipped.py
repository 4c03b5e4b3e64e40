"""At which value pixels are clipped, where no header tells it: at the end of the file's numbers, or where pixels pile up."""

from __future__ import annotations

import math

import numpy as np

from ulvar.engine import F32Array
from ulvar.frames.noise import median, robust_spread

# Highest numbers by bits of a pixel as the FITS reader tells them: 20 is 16 bits without a sign.
_HIGHEST = {8: 255.0, 16: 32767.0, 20: 65535.0}
_UNSIGNED_16 = 65535.0
# So many pixels at the very same highest value, so far over the sky [deviations], are a clipped star, not its peak.
_PILE, _OVER = 6, 50.0
_THIN = 17


def clipped_at(data: F32Array, bitpix: int) -> float | None:
    """Return the value from which pixels of an exposure are clipped [ADU]; None where nothing tells that any is.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        As read, whole numbers [ADU].
    bitpix : int
        Of the file; floating point numbers have no such end.
    """
    highest = _HIGHEST.get(bitpix)
    if highest is None or not data.size:
        return None
    top = float(data.max())
    if np.isnan(top):
        # Blank pixels are none; NaN where there are no others: nothing is clipped then.
        top = float(np.fmax.reduce(data, axis=None))
    if bitpix == 16 and top > highest:
        # Other files than FITS count 16 bits without a sign.
        highest = _UNSIGNED_16
    if top >= highest:
        return highest
    sample = data[::_THIN, ::_THIN]
    sky = median(sample)
    if math.isnan(sky):
        return None
    spread = max(robust_spread(sample, about=sky), 1.0)
    if not top > sky + _OVER * spread:
        return None
    return top if int(np.count_nonzero(data == np.float32(top))) >= _PILE else None
