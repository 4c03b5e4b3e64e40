"""A first look at a film: the picture that stars are marked in, words burnt into it, how wide its stars are."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array
from ulvar.frames import Film, MaskBit, burnt_words, median, robust_spread, write_png

# Frames of the picture that stars are marked in, and those that words are looked for in.
_MEAN_OF, _WORDS_IN = 64, 48


def film_words(film: Film) -> BoolArray | None:
    """Return which pixels lie under words that were burnt in, shape (height, width); None where there are none."""
    picked = np.unique(np.linspace(0, film.count - 1, _WORDS_IN).astype(int))
    if film.kind == "AVI":
        # Far frames of it are reached by decoding all before.
        picked = picked[picked < 10 * _WORDS_IN]
    frames = np.stack([film.read(int(k), int(k) + 1)[0] for k in picked]) if film.kind != "AVI" else _avi_sample(film)
    words = burnt_words(frames)
    return words if words.any() else None


def _avi_sample(film: Film) -> np.ndarray:
    frames = film.read(0, min(film.count, 10 * _WORDS_IN))
    return frames[:: max(1, len(frames) // _WORDS_IN)]


def film_picture(film: Film, words: BoolArray | None = None) -> F32Array:
    """Return the mean of the first frames, which stars are marked in; NaN under words."""
    frames = film.read(0, min(film.count, _MEAN_OF))
    picture = frames.mean(axis=0, dtype=np.float64).astype(np.float32)
    if words is not None:
        picture[words] = np.nan
    return picture


def write_film_picture(path: Path, picture: F32Array) -> None:
    """Write the mean of a film's first frames as PNG, atomically, first row at the top as recorders show it; one that is there is replaced."""
    # Written pictures begin at the bottom.
    write_png(path, film_grey(picture)[::-1])


def film_grey(picture: F32Array) -> np.ndarray:
    """Return a film's picture for the eye, uint8: the sky nearly black, stars up to white."""
    there = picture[np.isfinite(picture)]
    if not len(there):
        return np.zeros(picture.shape, dtype=np.uint8)
    middle = median(there)
    noise = robust_spread(there, about=middle)
    # Where stars are few most of the pixels are noise: it stays dark.
    low, high = middle - noise, max(middle + 20 * noise, float(np.percentile(there, 99.9)))
    grey = np.clip((np.nan_to_num(picture, nan=low) - low) / max(high - low, 1e-6), 0, 1)
    return np.asarray((255 * np.sqrt(grey)).astype(np.uint8))


@dataclass(frozen=True)
class FilmLook:
    """What is known of a film before it is measured: mean of its first frames, words in it, width of its stars."""

    picture: F32Array
    words: BoolArray | None
    fwhm_px: float
    places: F64Array = field(default_factory=lambda: np.empty((0, 2)))


def look_at_film(film: Film) -> FilmLook:
    """Look at a film's first frames, and for burnt-in words all over it."""
    from ulvar.stars import find_stars

    words = film_words(film)
    picture = film_picture(film, words)
    mask = None if words is None else np.where(words, np.uint16(MaskBit.NO_DATA), np.uint16(0))
    found = find_stars(picture, mask=mask)
    fwhm = found.fwhm_px if math.isfinite(found.fwhm_px) and found.fwhm_px > 0 else 3.0
    return FilmLook(picture, words, fwhm, np.column_stack([found.stars.x, found.stars.y]))
