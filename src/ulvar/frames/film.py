"""Films: thousands of small frames one after the other, from FITS files, FITS cubes, SER and AVI files.

References
----------
SER format description, version 3 (2014): a header of 178 bytes, frames, and time stamps of 8 bytes each behind them.
FITS Standard 4.0 (2018), section 9 (times), 8.1 (linear axes).
"""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import F64Array, percent
from ulvar.frames.address import Address
from ulvar.frames.fits_header import header_of, image_hdu
from ulvar.frames.fits_open import is_packed, open_fits
from ulvar.frames.fits_rows import FileRows
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading
from ulvar.frames.readers import scan_file, scan_images

FILM_ENDINGS = (".ser", ".avi")
STAMPS = ("start", "middle", "end")

_SER_HEADER = struct.Struct("<14s7i40s40s40s2q")
# Ticks of 0.1 us from the year 1 to 1970.
_TICKS_1970 = 621_355_968_000_000_000
# Rows of so many frames are in memory at once.
_BLOCK_BYTES = 32 * 1024**2
_MOSAICS = {8, 9, 10, 11, 16, 17, 18, 19}
_COLOURS = {100, 101}
_READERS = 4


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
        step = max(1, _BLOCK_BYTES // max(1, 4 * self.width * self.height))
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


@dataclass(frozen=True)
class _Stored(Film):
    """Frames that lie in a file one behind the other, mapped into memory."""

    pixels: np.ndarray = field(default_factory=lambda: np.empty(0))
    zero: float = 0.0
    scale: float = 1.0

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames as the base class says."""
        block = self.pixels[first:last, rows]
        if block.ndim == 4:
            return block.mean(axis=-1, dtype=np.float32)
        if (self.zero, self.scale) != (0.0, 1.0):
            # Signed numbers with half of the range added are what FITS has for unsigned ones.
            if self.scale == 1.0 and self.zero == 32768.0 and block.dtype.itemsize == 2:
                return block.astype(np.int16).view(np.uint16) ^ np.uint16(0x8000)
            return (block.astype(np.float64) * self.scale + self.zero).astype(np.float32)
        return np.ascontiguousarray(block, dtype=block.dtype.newbyteorder("="))


@dataclass(frozen=True)
class _Files(Film):
    """A FITS file for each frame."""

    files: tuple[str, ...] = ()

    def label(self, number: int) -> str:
        """Name of a frame in tables."""
        return Path(self.files[number]).name

    def _one(self, path: str, rows: slice) -> np.ndarray:
        source = FileRows(path)
        if (source.height, source.width) != (self.height, self.width):
            raise FrameError(path, f"it is {source.width} x {source.height} px, the first {self.width} x {self.height}")
        return source.rows(*rows.indices(self.height)[:2])

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames as the base class says."""
        with ThreadPoolExecutor(_READERS) as pool:
            return np.stack(list(pool.map(lambda path: self._one(path, rows), self.files[first:last])))


@dataclass(frozen=True)
class _Video(Film):
    """An AVI file; its frames come one after the other."""

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames as the base class says; from the start on, for containers count inexactly."""
        return np.concatenate([block for _, block in self._from(first, last, rows, last - first)])

    def _from(self, first: int, last: int, rows: slice, step: int) -> Iterator[tuple[int, np.ndarray]]:
        import cv2

        capture = cv2.VideoCapture(self.path)
        try:
            for _ in range(first):
                if not capture.grab():
                    raise FrameError(self.path, f"it ends before frame {first}")
            at = first
            while at < last:
                frames: list[np.ndarray] = []
                while len(frames) < min(step, last - at):
                    there, picture = capture.read()
                    if not there:
                        raise FrameError(self.path, f"it ends with frame {at + len(frames)}, where {last} are promised")
                    frames.append(_grey(picture)[rows])
                yield at, np.stack(frames)
                at += len(frames)
        finally:
            capture.release()

    def blocks(self, rows: slice = slice(None)) -> Iterator[tuple[int, np.ndarray]]:
        """Yield frames as the base class says, decoding each once."""
        step = max(1, _BLOCK_BYTES // max(1, 4 * self.width * self.height))
        yield from self._from(0, self.count, rows, step)


def _grey(picture: np.ndarray) -> np.ndarray:
    """Return one plane; the mean of three where they differ."""
    if picture.ndim == 2:
        return picture
    if (picture[..., 0] == picture[..., 1]).all() and (picture[..., 0] == picture[..., 2]).all():
        return np.ascontiguousarray(picture[..., 0])
    return np.asarray(picture.mean(axis=-1, dtype=np.float32))


def open_film(paths: Sequence[str]) -> Film:
    """Open a film.

    Parameters
    ----------
    paths : sequence of str
        One SER or AVI file, one FITS cube, or FITS files with a frame each: those are put in the order of their times, where all
        have one, else of their names.

    Raises
    ------
    FrameError
        If it cannot be read; the message names the file and the reason.
    """
    if not paths:
        raise FrameError("", "there is no file")
    if len(paths) > 1:
        return _files_film(list(paths), "FITS files")
    path = paths[0]
    if not Path(path).exists():
        raise FrameError(path, "there is no such file")
    ending = Path(path).suffix.lower()
    if ending == ".ser":
        return _open_ser(path)
    return _open_avi(path) if ending == ".avi" else _open_cube(path)


def _open_ser(path: str) -> Film:
    try:
        with Path(path).open("rb") as handle:
            head = handle.read(_SER_HEADER.size)
            size = handle.seek(0, 2)
    except OSError as error:
        raise FrameError(path, error.strerror or str(error)) from None
    if len(head) < _SER_HEADER.size or not head.startswith(b"LUCAM-RECORDER"):
        raise FrameError(path, "this is not a SER file")
    _, _, colour, _, width, height, depth, promised, *_, began = _SER_HEADER.unpack(head)
    if not (0 < width <= 65_535 and 0 < height <= 65_535 and 0 < depth <= 16):
        raise FrameError(path, f"its header makes no sense: {width} x {height} px of {depth} bits")
    planes = 3 if colour in _COLOURS else 1
    kind = np.dtype("u1") if depth <= 8 else np.dtype("<u2")
    frame_bytes = width * height * planes * kind.itemsize
    there = (size - _SER_HEADER.size) // frame_bytes
    # A program that came to its end before it wrote the number leaves 0.
    count = there if promised <= 0 else min(promised, there)
    notes = []
    if count < promised:
        notes.append(
            f"The file is cut short: it ends after {count} of {promised} frames ({percent(count / promised)})."
        )
    if count == 0:
        raise FrameError(path, "it holds no frame")
    shape = (count, height, width) if planes == 1 else (count, height, width, planes)
    pixels: np.ndarray = np.memmap(path, dtype=kind, mode="r", offset=_SER_HEADER.size, shape=shape)
    if depth > 8 and _smoother_swapped(pixels[count // 2]):
        # Programs disagree on what the header's word for the order of bytes means; neighbouring pixels are alike in one order only.
        pixels = pixels.view(kind.newbyteorder(">"))
    if colour in _MOSAICS:
        notes.append("Its pixels lie under a colour mosaic: apertures add up all colours.")
    full = float(2**depth - 1)
    if depth > 8 and float(pixels[count // 2].max()) > full:
        full = 65535.0
    times = np.full(count, math.nan)
    trailer = _SER_HEADER.size + promised * frame_bytes
    if count == promised and size >= trailer + 8 * count:
        with Path(path).open("rb") as handle:
            handle.seek(trailer)
            ticks = np.frombuffer(handle.read(8 * count), dtype="<i8")
        times = np.where(ticks > _TICKS_1970, (ticks - _TICKS_1970) / 1e7, math.nan)
    elif began > _TICKS_1970:
        times[0] = (began - _TICKS_1970) / 1e7
        notes.append("The file tells when the recording began, not when each frame was taken: give the rate.")
    return _Stored(
        path, "SER", width, height, count, full_adu=full, times=times, notes=tuple(notes), pixels=pixels
    )  # fmt: skip


def _smoother_swapped(frame: np.ndarray) -> bool:
    """Whether neighbouring pixels are more alike with their bytes the other way round."""
    rough = [
        float(np.abs(np.diff(f.astype(np.float64), axis=-1 if f.ndim == 2 else 1)).mean())
        for f in (frame, frame.byteswap())
    ]
    return rough[1] < rough[0]


def _open_avi(path: str) -> Film:
    import cv2

    capture = cv2.VideoCapture(path)
    try:
        there, picture = capture.read()
        if not there:
            raise FrameError(path, "this is not an AVI file, or its frames are packed in a way that is not known")
        count, rate = int(capture.get(cv2.CAP_PROP_FRAME_COUNT)), float(capture.get(cv2.CAP_PROP_FPS))
        if count < 1:
            # The index is missing: they are counted.
            count = 1
            while capture.grab():
                count += 1
    finally:
        capture.release()
    height, width = picture.shape[:2]
    notes = (
        () if _grey(picture).dtype == np.uint8 else ("Its frames are in colour: the mean of the colours is measured.",)
    )
    return _Video(
        path, "AVI", width, height, count, full_adu=255.0, times=np.full(count, math.nan),
        rate=rate if rate > 0 else math.nan, notes=notes,
    )  # fmt: skip


def _open_cube(path: str) -> Film:
    with reading(path, "its header"), open_fits(path) as handle:
        hdu = image_hdu(handle, path)
        info = handle[hdu].get_info()
        start = int(handle[hdu].get_offsets()["data_start"])
    dims = [int(n) for n in info["dims"]]
    if len(dims) != 3 or info["is_compressed_image"]:
        # Planes in extensions of their own, or of tiles: one by one.
        return _files_film([facts.path for facts in scan_images(path)], "FITS cube")
    if is_packed(path):
        raise FrameError(path, "a cube is read as a film when it is not packed: unpack it first")
    count, height, width = dims
    # The planes' own facts would be as many; the first tells what there is, and that the file is whole.
    first = scan_images(Address(path, hdu, 0).text)[0]
    header = header_of(path)
    kind = np.dtype({8: "u1", 16: ">i2", 32: ">i4", -32: ">f4", -64: ">f8"}[int(info["img_type"])])
    zero, scale = float(header.get("BZERO") or 0), float(header.get("BSCALE") or 1)
    times, stamp, step = np.full(count, math.nan), "", _axis_seconds(header)
    if first.start_utc is not None:
        times[0], stamp = first.start_utc.timestamp(), "start"
        if step is not None:
            times = times[0] + step * np.arange(count)
    full = {8: 255.0, 16: 65535.0 if zero == 32768.0 else 32767.0}.get(int(info["img_type"]))
    return _Stored(
        path, "FITS cube", width, height, count, full_adu=first.saturation_adu or full, times=times, stamp=stamp,
        exposure_s=math.nan if first.exposure_s is None else first.exposure_s, rate=math.nan if step is None else 1 / step,
        pixels=np.memmap(path, dtype=kind, mode="r", offset=start, shape=(count, height, width)), zero=zero, scale=scale,
    )  # fmt: skip


def _axis_seconds(header: Mapping[str, Any]) -> float | None:
    """Return the step of a time axis [s], if the third axis is one."""
    get = header.get
    name, unit = str(get("CTYPE3") or "").strip().upper(), str(get("CUNIT3") or "s").strip()
    step = get("CDELT3")
    seconds = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "min": 60.0, "d": 86400.0}.get(unit)
    if name not in ("TIME", "UTC", "TT", "TAI") or step is None or seconds is None or float(step) <= 0:
        return None
    return float(step) * seconds


def _files_film(paths: list[str], kind: str) -> Film:
    with ThreadPoolExecutor(_READERS) as pool:
        facts = list(pool.map(scan_file, paths))
    first = facts[0]
    if all(f.start_utc is not None for f in facts):
        facts.sort(key=lambda f: (f.start_utc, f.path))
    else:
        facts.sort(key=lambda f: f.path)
    if not first.width or not first.height:
        raise FrameError(first.path, "it is not a two-dimensional image")
    times = np.array([math.nan if f.start_utc is None else f.start_utc.timestamp() for f in facts])
    exposures = {f.exposure_s for f in facts if f.exposure_s is not None}
    return _Files(
        first.path, kind, first.width, first.height, len(facts), full_adu=first.saturation_adu, times=times,
        stamp="start" if np.isfinite(times).any() else "",
        exposure_s=exposures.pop() if len(exposures) == 1 else math.nan, files=tuple(f.path for f in facts),
    )  # fmt: skip
