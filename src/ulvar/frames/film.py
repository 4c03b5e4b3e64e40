"""Films: thousands of small frames one after the other."""

from __future__ import annotations

import math
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ulvar.engine import F64Array

FILM_ENDINGS = (".ser", ".avi")
STAMPS = ("start", "middle", "end")

# Rows of so many frames are in memory at once.
_BLOCK_BYTES = 32 * 1024**2


@dataclass(frozen=True)
class Film:
    """Frames of one size in the order in which they were taken.

    Attributes
    ----------
    path : str
        The file; of single files the first.
    kind : str
        ``SER``, ``AVI``, ``FITS cube`` or ``FITS files``.
    width, height, count : int
    full_adu : float or None
        Where pixels are full [ADU], as far as the format tells.
    times : float64 array, shape (count,)
        What the file says of each frame's time, seconds since 1970-01-01 UTC; NaN where it says nothing.
    stamp : str
        What of the exposure the times are of, one of `STAMPS`; empty where the file does not say.
    exposure_s : float
        Of a frame; NaN where it is not told.
    rate : float
        Frames in a second as the file tells; NaN where it does not.
    notes : tuple of str
        What somebody who opens it should know.
    """

    path: str
    kind: str
    width: int
    height: int
    count: int
    full_adu: float | None = None
    times: F64Array = field(default_factory=lambda: np.empty(0))
    stamp: str = ""
    exposure_s: float = math.nan
    rate: float = math.nan
    notes: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """The file's name."""
        return Path(self.path).name

    def label(self, number: int) -> str:
        """Name of a frame in tables."""
        return f"{self.name}[{number}]"

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames ``first <= k < last``, of these `rows`, shape (frames, rows, width), as they are stored.

        Raises
        ------
        FrameError
            If one cannot be read.
        """
        raise NotImplementedError

    def blocks(self, rows: slice = slice(None)) -> Iterator[tuple[int, np.ndarray]]:
        """Yield the number of a first frame and some frames from it on, to the last; the next block is read meanwhile."""
        step = frames_at_once(self)
        starts = list(range(0, self.count, step))
        with ThreadPoolExecutor(1) as reader:
            coming = reader.submit(self.read, 0, min(step, self.count), rows) if starts else None
            for start in starts:
                assert coming is not None
                block = coming.result()
                after = start + step
                if after < self.count:
                    coming = reader.submit(self.read, after, min(after + step, self.count), rows)
                yield start, block


def frames_at_once(film: Film) -> int:
    """Return how many frames are read together."""
    return max(1, _BLOCK_BYTES // max(1, 4 * film.width * film.height))


@dataclass(frozen=True)
class StoredFilm(Film):
    """Frames that lie in a file one behind the other, mapped into memory."""

    pixels: np.ndarray = field(default_factory=lambda: np.empty(0))
    zero: float = 0.0
    scale: float = 1.0

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames as the base class says."""
        block = self.pixels[first:last, rows]
        if block.ndim == 4:
            return np.asarray(block.mean(axis=-1, dtype=np.float32))
        return native(block, self.zero, self.scale)


def native(block: np.ndarray, zero: float, scale: float) -> np.ndarray:
    """Return stored pixels as numbers of this machine, scaled as their header says."""
    if (zero, scale) == (0.0, 1.0):
        return np.ascontiguousarray(block, dtype=block.dtype.newbyteorder("="))
    if (zero, scale) == (32768.0, 1.0) and block.dtype.itemsize == 2:
        # Signed numbers with half of the range added are what FITS has for unsigned ones.
        return block.astype(np.int16).view(np.uint16) ^ np.uint16(0x8000)
    return (block.astype(np.float64) * scale + zero).astype(np.float32)
