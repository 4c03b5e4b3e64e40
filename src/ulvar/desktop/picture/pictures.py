"""Reading pictures for the sky view, off the window's thread, with a pyramid for fast zooming out."""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from PySide6.QtCore import QObject, Signal

from ulvar.desktop.picture.colour import balanced, interpolated
from ulvar.desktop.picture.stretch import Sample
from ulvar.frames import (
    Balance,
    ExposureFacts,
    FileRows,
    FrameError,
    cell_colours,
    is_fits_path,
    is_mosaic,
    median,
    on_one_scale,
    read_plane,
    white_balance,
)
from ulvar.frames.address import Address, split_address
from ulvar.frames.fits_rows import stored_mask
from ulvar.registration import PixelMap, map_values, resample, stored_map

# From this size on a quick look is shown while the whole picture is read [px].
_LARGE = 20_000_000
# Stars are measured within this of the cursor, at most [px].
_NEAR = 120


@dataclass(frozen=True)
class Picture:
    """Pixels at full size and halved again and again; a sample for stretches and histogram.

    A quick look has every n-th pixel only, for the moment until the whole is there. The levels of a colour picture are
    float32 [y, x, 3], but for the first one of a mosaic, which stays as it was measured: its colours are interpolated
    where they are shown.
    """

    path: str
    levels: tuple[np.ndarray, ...]
    sample: Sample
    shape: tuple[int, int] = (0, 0)
    quick: bool = False
    cfa: str = ""
    balance: Balance = ()
    bands: tuple[Sample, ...] = ()

    @property
    def data(self) -> np.ndarray:
        """Full-size pixels to measure, float32 [y, x]; of a quick look the few that there are."""
        return self.levels[0] if self.levels[0].ndim == 2 else self._mean

    @cached_property
    def _mean(self) -> np.ndarray:
        return self.levels[0].mean(axis=2)

    def part(self, level: int, x0: int, y0: int, x1: int, y1: int) -> np.ndarray:
        """Return a part of a level, float32 [y, x] or, of a colour picture, [y, x, 3]."""
        if self.cfa and level == 0:
            return interpolated(self.levels[0], self.cfa, x0, y0, x1, y1, self.balance)
        return self.levels[level][y0:y1, x0:x1]

    def near(self, x: float, y: float) -> tuple[np.ndarray, int, int]:
        """Return a mosaic's pixels about a place to measure a star in, and the place of their first one.

        The bands are brought to green's scale: as they are, they would look like noise across a star.
        """
        x0, y0 = max(0, (round(x) - _NEAR) // 2 * 2), max(0, (round(y) - _NEAR) // 2 * 2)
        part = self.levels[0][y0 : y0 + 2 * _NEAR, x0 : x0 + 2 * _NEAR]
        return on_one_scale(part, self.cfa, self.balance), x0, y0

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        return sum(level.nbytes for level in self.levels)


def colour_path(path: str, colours: str) -> str:
    """Return the name under which a picture is asked for in colour.

    Parameters
    ----------
    path : str
    colours : str
        The cell of the mosaic (``RGGB``), or ``planes`` for the three planes of the file that holds this one.
    """
    return f"{path}\n#{colours}"


def difference_path(first: str, second: str) -> str:
    """Return the name under which the difference of two files is asked for."""
    return f"{first}\n{second}"


def aligned_path(path: str, grid: PixelMap, shape: tuple[int, int]) -> str:
    """Return the name under which a file is asked for on another pixel grid.

    Parameters
    ----------
    path : str
    grid : PixelMap
        From the file's pixels to the grid's.
    shape : (int, int)
        Height and width of the grid [px].
    """
    told = [grid.linear_at(0.0, 0.0).tolist(), map_values(grid), *shape]
    return f"{path}\n@{json.dumps(told)}"


@dataclass(frozen=True)
class Orders:
    """What a picture's name asks for: a file, and what is done with its pixels."""

    file: str
    colours: str = ""
    grid: str = ""
    other: str = ""

    @classmethod
    def of(cls, name: str) -> Orders:
        """Take a name apart."""
        file, *rest = name.split("\n")
        marked = {order[0]: order[1:] for order in rest if order[0] in "#@"}
        other = next((order for order in rest if order[0] not in "#@"), "")
        return cls(file, marked.get("#", ""), marked.get("@", ""), other)

    @property
    def as_stored(self) -> bool:
        """Whether the file's own pixels are shown, in colour or not."""
        return not (self.grid or self.other or self.colours == "planes")


def colours_of(facts: ExposureFacts) -> str:
    """Return how an exposure can be shown in colour, see `colour_path`; empty for a grey one."""
    if is_mosaic(facts.cfa):
        return facts.cfa
    if split_address(facts.path).plane is None:
        return ""
    # Three planes of one file are red, green and blue as a rule; a TIFF's fourth sample is not looked at.
    return "planes" if facts.planes == 3 or (facts.planes == 4 and facts.filter in tuple("RGBA")) else ""


def _planes(path: str) -> np.ndarray:
    """Return the red, green and blue plane of the file that an address names one plane of, [y, x, 3]."""
    address = split_address(path)
    planes = [read_plane(Address(address.file, address.hdu, k).text) for k in range(3)]
    return np.stack(planes, axis=2)


def _pixels(name: str) -> tuple[np.ndarray, str]:
    """Return the pixels of a picture's name, and the cell of the mosaic that they still are."""
    orders = Orders.of(name)
    data = _planes(orders.file) if orders.colours == "planes" else read_plane(orders.file)
    cfa = orders.colours if is_mosaic(orders.colours) else ""
    if orders.grid:
        matrix, bent, height, width = json.loads(orders.grid)
        if cfa:
            # Turned or shifted, a mosaic would be none any more.
            balance = white_balance(cell_colours(data, cfa))
            data, cfa = interpolated(data, cfa, 0, 0, data.shape[1], data.shape[0], balance), ""
        if bent is not None:
            planes = np.atleast_3d(data)
            way = stored_map(matrix, bent)
            shown = [resample(planes[:, :, k], way, (height, width)) for k in range(planes.shape[2])]
            return np.squeeze(np.stack(shown, axis=2)), cfa
        # Looking wants speed: bilinear, unlike the stack, which resamples by Lanczos.
        data = cv2.warpAffine(
            data, np.array(matrix), (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT,
            borderValue=(np.nan,) * 4,
        )  # fmt: skip
    elif orders.other:
        second = read_plane(orders.other)
        if second.shape != data.shape:
            raise FrameError(orders.other, "its size is not that of the other")
        np.subtract(data, second, out=data)
    return data, cfa


def make_picture(path: str) -> Picture:
    """Read a picture and build its pyramid.

    Raises
    ------
    FrameError
        If the file cannot be read.
    """
    data, cfa = _pixels(path)
    levels = [data]
    if cfa:
        levels.append(_filled(data, cell_colours(data, cfa), lambda whole: cell_colours(whole, cfa)))
    while max(levels[-1].shape[:2]) > 700:
        half = _halved(levels[-1])
        levels.append(_filled(data, half, _halved) if len(levels) == 1 else half)
    if data.ndim == 2 and not cfa:
        return Picture(path, tuple(levels), Sample.of(_thinned(data)), data.shape)
    thin = _thinned(levels[1] if cfa else data)
    balance = white_balance(levels[min(len(levels) - 1, 2)])
    even = balanced(thin, balance)
    bands = tuple(Sample.of(band) for band in np.moveaxis(even, -1, 0))
    shape = data.shape[0], data.shape[1]
    return Picture(path, tuple(levels), Sample.of(even.mean(axis=-1)), shape, False, cfa, balance, bands)


def _halved(data: np.ndarray) -> np.ndarray:
    size = max(1, data.shape[1] // 2), max(1, data.shape[0] // 2)
    return cv2.resize(data, size, interpolation=cv2.INTER_AREA)


def _filled(data: np.ndarray, smaller: np.ndarray, shrink: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """Return the smaller picture, made anew with the median where pixels have no value: these would spread."""
    if np.isfinite(smaller.sum(dtype=np.float64)):
        return smaller
    return shrink(np.nan_to_num(data, nan=float(np.nan_to_num(median(_thinned(data))))))


def _thinned(data: np.ndarray) -> np.ndarray:
    step = max(1, int(np.sqrt(data.shape[0] * data.shape[1] / 40_000)))
    return data[::step, ::step]


def quick_look(path: str) -> Picture | None:
    """Return a look at a large plain file from a part of its rows; None where the whole is there as soon."""
    orders = Orders.of(path)
    if not orders.as_stored or not is_fits_path(orders.file):
        return None
    try:
        rows = FileRows(orders.file)
        if not rows.plain or rows.height * rows.width < _LARGE:
            return None
        # An even step stays within one colour of a mosaic.
        data = rows.every(max(2, max(rows.height, rows.width) // 1400 // 2 * 2))
    except FrameError:
        return None
    return Picture(path, (data,), Sample.of(_thinned(data)), (rows.height, rows.width), quick=True)


def read_mask(path: str, shape: tuple[int, ...]) -> np.ndarray | None:
    """Return the mask plane that a product carries, or None."""
    orders = Orders.of(path)
    if not orders.as_stored or not is_fits_path(orders.file):
        return None
    try:
        return stored_mask(orders.file, shape)
    except FrameError:
        return None


class PictureLoader(QObject):
    """Loads pictures in one thread and keeps the last few.

    Every request carries a number that grows when pictures are forgotten: what was read before that is dropped when
    it comes, and read again where it is still wanted. What is no longer asked for the receiver passes over.
    """

    loaded = Signal(str, object)
    masked = Signal(str, object)
    _arrived = Signal(int, str, object)

    def __init__(self, keep_bytes: int = 600 * 1024**2) -> None:
        super().__init__()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="picture")
        self._keep_bytes = keep_bytes
        self._cache: OrderedDict[str, Picture] = OrderedDict()
        self._waiting: dict[str, Future] = {}
        self._closed = False
        self._age = 0
        self._wanted: set[str] = set()
        self._arrived.connect(self._store)

    def request(self, path: str, also: str = "") -> None:
        """Ask for a picture, and for another beside it; `loaded` comes with each, or with the reason as text."""
        self._wanted = {path, also}
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
        self._waiting[path] = self._pool.submit(self._load, self._age, path, True)

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
                self._waiting[path] = self._pool.submit(self._load, self._age, path, False)

    def request_mask(self, path: str, shape: tuple[int, ...]) -> None:
        """Ask for the mask of a picture; `masked` comes with it, or with None."""
        if not self._closed:
            self._pool.submit(lambda: self.masked.emit(path, read_mask(path, shape)))

    def _load(self, age: int, path: str, hurry: bool) -> None:
        try:
            if hurry and (quick := quick_look(path)) is not None:
                self._arrived.emit(age, path, quick)
            self._arrived.emit(age, path, make_picture(path))
        except FrameError as error:
            self._arrived.emit(age, path, error.reason)
        except Exception as error:
            self._arrived.emit(age, path, f"{type(error).__name__}: {error}")

    def _store(self, age: int, path: str, result: object) -> None:
        if age != self._age:
            # Read before the file may have been renewed.
            return
        if isinstance(result, Picture) and result.quick:
            self.loaded.emit(path, result)
            return
        self._waiting.pop(path, None)
        if isinstance(result, Picture):
            self._cache[path] = result
            while len(self._cache) > 2 and sum(p.nbytes for p in self._cache.values()) > self._keep_bytes:
                self._cache.popitem(last=False)
        self.loaded.emit(path, result)

    def forget(self) -> None:
        """Drop cached pictures and those on their way (products may have been renewed)."""
        self._cache.clear()
        self._age += 1
        waiting, self._waiting = self._waiting, {}
        for path, future in waiting.items():
            future.cancel()
            if path in self._wanted:
                self._ask(path, self._wanted)

    def close(self) -> None:
        """End the thread; what is asked for after that is not read."""
        self._closed = True
        self._pool.shutdown(wait=True, cancel_futures=True)
