"""Words under a picture, for files that no window draws."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

# Height of a line over that of its letters, room at the sides in letters, grey of band and words.
_LINE, _ASIDE, _BAND, _WORDS = 1.6, 1.2, 24, 225
# Letters are so high of a picture so wide, and never smaller than can be read [px].
_LETTERS, _SMALLEST = 1 / 60, 12


def captioned(picture: np.ndarray, lines: Sequence[str]) -> np.ndarray:
    """Return a picture with lines of words in a band under it.

    Parameters
    ----------
    picture : uint8 array, shape (height, width) or (3, height, width)
        First row at the bottom.
    lines : sequence of str
        What is too wide for the picture is written smaller.
    """
    lines = [line for line in lines if line]
    if not lines:
        return picture
    width = picture.shape[-1]
    size = max(_SMALLEST, round(width * _LETTERS))
    font = cv2.FontFace("sans")
    room = width - 2 * round(_ASIDE * size)
    widest = max(_wide(line, font, size) for line in lines)
    if widest > room > 0:
        size = max(4, int(size * room / widest))
    step = round(_LINE * size)
    band = np.full((step * len(lines) + size, width), _BAND, dtype=np.uint8)
    for n, line in enumerate(lines):
        cv2.putText(band, line, (round(_ASIDE * size), step * (n + 1)), _WORDS, font, size, 400)
    # Rows run upwards: the band comes first, turned over.
    under = band[::-1]
    return np.concatenate([under if picture.ndim == 2 else np.stack([under] * 3), picture], axis=-2)


def _wide(line: str, font: cv2.FontFace, size: int) -> int:
    """Return how wide a line is [px]."""
    rectangle = cv2.getTextSize((8, 8), line, (0, 0), font, size, 400)
    return int(rectangle[0] + rectangle[2])
