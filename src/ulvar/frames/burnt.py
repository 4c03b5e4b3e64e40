"""Words that a recorder burnt into frames: times, counters, positions."""

from __future__ import annotations

import cv2
import numpy as np

from ulvar.engine import BoolArray

# Ink is this near to white, in at least this share of the frames: digits change.
_INK, _OFTEN = 0.7, 0.04
# Letters of one line are no further apart [px]; a line is so high at least, so many times as wide, and of so many letters.
_GAP, _LOWEST, _WIDE, _LETTERS = 17, 5, 3.0, 5
# Less of a line's box is ink than of a star's that is full.
_MOST_INK = 0.8
# Outlines and smears about letters [px].
_RIM = 4


def burnt_words(frames: np.ndarray) -> BoolArray:
    """Return which pixels lie under words, shape (height, width).

    Parameters
    ----------
    frames : array, shape (frames, height, width)
        Some frames out of all of a film: with digits that change, from all over it. White is the highest value there.

    Returns
    -------
    bool array
        Boxes about lines of letters: long groups of nearly white marks with gaps. Stars, however full, are round.
    """
    ink = ((frames >= _INK * float(frames.max())).mean(axis=0) >= _OFTEN).astype(np.uint8)
    words = np.zeros(ink.shape, dtype=bool)
    if not ink.any():
        return words
    line = cv2.morphologyEx(ink, cv2.MORPH_CLOSE, np.ones((3, _GAP), dtype=np.uint8))
    count, _, boxes, _ = cv2.connectedComponentsWithStats(line, connectivity=8)
    for x, y, width, height, _ in boxes[1:count]:
        letters = ink[y : y + height, x : x + width]
        pieces = cv2.connectedComponents(letters, connectivity=8)[0] - 1
        if height >= _LOWEST and width >= _WIDE * height and pieces >= _LETTERS and letters.mean() < _MOST_INK:
            words[max(0, y - _RIM) : y + height + _RIM, max(0, x - _RIM) : x + width + _RIM] = True
    return words
