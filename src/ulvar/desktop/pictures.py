"""Reading pictures for the sky view, off the window's thread, with a pyramid for fast zooming out."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.frames import FileRows, FrameError, is_fits_path, read_plane
from ulvar.frames.fits import stored_mask

# From this size on a quick look is shown while the whole picture is read [px].
_LARGE = 20_000_000


@dataclass(frozen=True)
class Picture:
    """Pixels at full size and halved again and again; a sorted sample for stretches and histogram.

    A quick look has every n-th pixel only, for the moment until the whole is there.
    """

    path: str
    levels: tuple[np.ndarray, ...]
    sample: np.ndarray
    shape: tuple[int, int] = (0, 0)
    quick: bool = False

    @property
    def data(self) -> np.ndarray:
        """Full-size pixels, float32 [y, x]; of a quick look the few that there are."""
        return self.levels[0]


def difference_path(first: str, second: str) -> str:
    """Return the name under which the difference of two files is asked for."""
    return f"{first}\n{second}"


def aligned_path(path: str, matrix: np.ndarray, shape: tuple[int, int]) -> str:
    """Return the name under which a file is asked for on another pixel grid.

    Parameters
    ----------
    path : str
    matrix : float64 array, shape (2, 3)
        From the file's pixels to the grid's.
    shape : (int, int)
        Height and width of the grid [px].
    """
    numbers = ",".join(repr(float(v)) for v in np.asarray(matrix).ravel())
    return f"{path}\n@{numbers},{shape[0]},{shape[1]}"


def file_shown(name: str) -> str:
    """Return the file behind a picture's name."""
    return name.partition("\n")[0]


def _pixels(name: str) -> np.ndarray:
    first, _, second = name.partition("\n")
    data = read_plane(first)
    if second.startswith("@"):
        parts = second[1:].split(",")
        matrix = np.array([float(p) for p in parts[:6]]).reshape(2, 3)
        # Looking wants speed: bilinear, unlike the stack, which resamples by Lanczos.
        shape = int(parts[6]), int(parts[7])
        return cv2.warpAffine(
            data,
            matrix,
            (shape[1], shape[0]),
            flags=cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_CONSTANT,
            borderValue=np.nan,
        )
    if second:
        other = read_plane(second)
        if other.shape != data.shape:
            raise FrameError(second, "its size is not that of the other")
        np.subtract(data, other, out=data)
    return data


def make_picture(path: str) -> Picture:
    """Read a picture and build its pyramid.

    Raises
    ------
    FrameError
        If the file cannot be read.
    """
    data = _pixels(path)
    levels = [data]
    while max(levels[-1].shape) > 700:
        below = levels[-1]
        size = max(1, below.shape[1] // 2), max(1, below.shape[0] // 2)
        small = cv2.resize(below, size, interpolation=cv2.INTER_AREA)
        if len(levels) == 1 and not np.isfinite(small.sum(dtype=np.float64)):
            # Pixels without a value would spread from level to level.
            step = max(1, min(below.shape) // 300)
            sample = below[::step, ::step]
            good = sample[np.isfinite(sample)]
            filled = np.nan_to_num(below, nan=float(np.median(good)) if good.size else 0.0)
            small = cv2.resize(filled, size, interpolation=cv2.INTER_AREA)
        levels.append(small)
    return Picture(path, tuple(levels), _sample(data), data.shape)


def _sample(data: np.ndarray) -> np.ndarray:
    step = max(1, int(np.sqrt(data.size / 40_000)))
    sample = data[::step, ::step].ravel()
    return np.sort(sample[np.isfinite(sample)])


def quick_look(path: str) -> Picture | None:
    """Return a look at a large plain file from a part of its rows; None where the whole is there as soon."""
    if "\n" in path or not is_fits_path(path):
        return None
    try:
        rows = FileRows(path)
        if not rows.plain or rows.height * rows.width < _LARGE:
            return None
        data = rows.every(max(2, max(rows.height, rows.width) // 1400))
    except FrameError:
        return None
    return Picture(path, (data,), _sample(data), (rows.height, rows.width), quick=True)


def read_mask(path: str, shape: tuple[int, ...]) -> np.ndarray | None:
    """Return the mask plane that a product carries, or None."""
    if "\n" in path or not is_fits_path(path):
        return None
    try:
        return stored_mask(path, shape)
    except FrameError:
        return None


class PictureLoader(QObject):
    """Loads pictures in one thread and keeps the last few; stale answers are dropped by the receiver."""

    loaded = Signal(str, object)
    masked = Signal(str, object)
    _arrived = Signal(str, object)

    def __init__(self, keep_bytes: int = 600 * 1024**2) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="picture")
        self._keep_bytes = keep_bytes
        self._cache: OrderedDict[str, Picture] = OrderedDict()
        self._waiting: dict[str, Future] = {}
        self._closed = False
        self._arrived.connect(self._store)

    def request(self, path: str, also: str = "") -> None:
        """Ask for a picture, and for another beside it; `loaded` comes with each, or with the reason as text."""
        self._ask(path, {path, also})
        if also:
            self._ask(also, {path, also})

    def _ask(self, path: str, wanted: set[str]) -> None:
        if path in self._cache:
            self._cache.move_to_end(path)
            self.loaded.emit(path, self._cache[path])
            return
        if path in self._waiting or self._closed:
            return
        for old in list(self._waiting):
            if old not in wanted and self._waiting[old].cancel():
                del self._waiting[old]
        self._waiting[path] = self._pool.submit(self._load, path, True)

    def prefetch_now(self, path: str) -> None:
        """Ask for a picture beside what is asked for, without calling anything off."""
        if path in self._cache:
            self.loaded.emit(path, self._cache[path])
        else:
            self.prefetch([path])

    def prefetch(self, paths: Sequence[str]) -> None:
        """Read pictures that will probably be asked for next, behind what is asked for now."""
        for path in paths if not self._closed else ():
            if path not in self._cache and path not in self._waiting:
                self._waiting[path] = self._pool.submit(self._load, path, False)

    def request_mask(self, path: str, shape: tuple[int, ...]) -> None:
        """Ask for the mask of a picture; `masked` comes with it, or with None."""
        if not self._closed:
            self._pool.submit(lambda: self.masked.emit(path, read_mask(path, shape)))

    def _load(self, path: str, hurry: bool) -> None:
        try:
            if hurry and (quick := quick_look(path)) is not None:
                self._arrived.emit(path, quick)
            self._arrived.emit(path, make_picture(path))
        except FrameError as error:
            self._arrived.emit(path, error.reason)
        except Exception as error:
            self._arrived.emit(path, f"{type(error).__name__}: {error}")

    def _store(self, path: str, result: object) -> None:
        if isinstance(result, Picture) and result.quick:
            self.loaded.emit(path, result)
            return
        self._waiting.pop(path, None)
        if isinstance(result, Picture):
            self._cache[path] = result
            while (
                len(self._cache) > 2
                and sum(sum(a.nbytes for a in p.levels) for p in self._cache.values()) > self._keep_bytes
            ):
                self._cache.popitem(last=False)
        self.loaded.emit(path, result)

    def forget(self) -> None:
        """Drop cached pictures (products may have been renewed)."""
        self._cache.clear()

    def close(self) -> None:
        """End the thread; what is asked for after that is not read."""
        self._closed = True
        self._pool.shutdown(wait=True, cancel_futures=True)
