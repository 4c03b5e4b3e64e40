"""Reading pictures for the sky view, off the window's thread, with a pyramid for fast zooming out."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.frames import FrameError, read_plane


@dataclass(frozen=True)
class Picture:
    """Pixels at full size and halved again and again; a sorted sample for stretches and histogram."""

    path: str
    levels: tuple[np.ndarray, ...]
    sample: np.ndarray

    @property
    def data(self) -> np.ndarray:
        """Full-size pixels, float32 [y, x]."""
        return self.levels[0]


def difference_path(first: str, second: str) -> str:
    """Return the name under which the difference of two files is asked for."""
    return f"{first}\n{second}"


def make_picture(path: str) -> Picture:
    """Read a picture and build its pyramid.

    Raises
    ------
    FrameError
        If the file cannot be read.
    """
    first, _, second = path.partition("\n")
    data = read_plane(first)
    if second:
        other = read_plane(second)
        if other.shape != data.shape:
            raise FrameError(second, "its size is not that of the other")
        data = data - other
    levels = [data]
    while max(levels[-1].shape) > 700:
        small = levels[-1]
        if not np.isfinite(small).all():
            small = np.nan_to_num(
                small, nan=float(np.nanmedian(small[::7, ::7])) if np.isfinite(small[::7, ::7]).any() else 0.0
            )
        levels.append(
            cv2.resize(
                small,
                (max(1, small.shape[1] // 2), max(1, small.shape[0] // 2)),
                interpolation=cv2.INTER_AREA,
            )
        )
    step = max(1, int(np.sqrt(data.size / 40_000)))
    sample = data[::step, ::step].ravel()
    return Picture(path, tuple(levels), np.sort(sample[np.isfinite(sample)]))


class PictureLoader(QObject):
    """Loads pictures in one thread and keeps the last few; stale answers are dropped by the receiver."""

    loaded = Signal(str, object)
    _arrived = Signal(str, object)

    def __init__(self, keep_bytes: int = 600 * 1024**2) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="picture")
        self._keep_bytes = keep_bytes
        self._cache: OrderedDict[str, Picture] = OrderedDict()
        self._waiting: dict[str, Future] = {}
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
        if path in self._waiting:
            return
        for old in list(self._waiting):
            if old not in wanted and self._waiting[old].cancel():
                del self._waiting[old]
        self._waiting[path] = self._pool.submit(self._load, path)

    def prefetch(self, paths: Sequence[str]) -> None:
        """Read pictures that will probably be asked for next, behind what is asked for now."""
        for path in paths:
            if path not in self._cache and path not in self._waiting:
                self._waiting[path] = self._pool.submit(self._load, path)

    def _load(self, path: str) -> None:
        try:
            self._arrived.emit(path, make_picture(path))
        except FrameError as error:
            self._arrived.emit(path, error.reason)
        except Exception as error:
            self._arrived.emit(path, f"{type(error).__name__}: {error}")

    def _store(self, path: str, result: object) -> None:
        self._waiting.pop(path, None)
        if isinstance(result, Picture):
            self._cache[path] = result
            while len(self._cache) > 2 and sum(p.data.nbytes for p in self._cache.values()) > self._keep_bytes:
                self._cache.popitem(last=False)
        self.loaded.emit(path, result)

    def forget(self) -> None:
        """Drop cached pictures (products may have been renewed)."""
        self._cache.clear()

    def close(self) -> None:
        """End the thread."""
        self._pool.shutdown(wait=True, cancel_futures=True)
