"""Opening films: FITS files, FITS cubes, SER and AVI files.

References
----------
SER format description, version 3 (2014): a header of 178 bytes, frames, and time stamps of 8 bytes each behind them.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.engine import percent
from ulvar.frames.film import Film, StoredFilm, frames_at_once
from ulvar.frames.film_files import open_cube, open_files
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import plain_reason

_SER_HEADER = struct.Struct("<14s7i40s40s40s2q")
# Ticks of 0.1 us from the year 1 to 1970.
_TICKS_1970 = 621_355_968_000_000_000
_MOSAICS = {8, 9, 10, 11, 16, 17, 18, 19}
_COLOURS = {100, 101}


@dataclass(frozen=True)
class _Video(Film):
    """An AVI file; its frames come one after the other. `way` is ``plain`` for those that are stored as one plane, ``grey`` for
    colours that are all alike, ``colour`` for those that are not."""

    way: str = "colour"

    def read(self, first: int, last: int, rows: slice = slice(None)) -> np.ndarray:
        """Return frames as the base class says; from the start on, for containers count inexactly."""
        return np.concatenate([block for _, block in self._from(first, last, rows, last - first)])

    def _from(self, first: int, last: int, rows: slice, step: int) -> Iterator[tuple[int, np.ndarray]]:
        capture = _capture(self.path, plain=self.way == "plain")
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
                    frames.append(_plane(picture, self.way)[rows])
                yield at, np.stack(frames)
                at += len(frames)
        finally:
            capture.release()

    def blocks(self, rows: slice = slice(None)) -> Iterator[tuple[int, np.ndarray]]:
        """Yield frames as the base class says, decoding each once."""
        yield from self._from(0, self.count, rows, frames_at_once(self))


def _capture(path: str, *, plain: bool) -> Any:
    import cv2

    capture = cv2.VideoCapture(path)
    if plain:
        capture.set(cv2.CAP_PROP_CONVERT_RGB, 0)
    return capture


def _plane(picture: np.ndarray, way: str) -> np.ndarray:
    """Return one plane; the mean of three where they differ."""
    if way == "colour":
        return np.asarray(picture.mean(axis=-1, dtype=np.float32))
    return picture if way == "plain" else np.ascontiguousarray(picture[..., 0])


def _way(path: str, picture: np.ndarray) -> str:
    """Return how the frames of a file are best read, by its first one in colours."""
    if (picture != picture[..., :1]).any():
        return "colour"
    capture = _capture(path, plain=True)
    try:
        there, plain = capture.read()
    finally:
        capture.release()
    # Some packings give something else than the grey that they show.
    alike = there and plain.shape == picture.shape[:2] and np.array_equal(plain, picture[..., 0])
    return "plain" if alike else "grey"


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
        return open_files(list(paths), "FITS files")
    path = paths[0]
    if not Path(path).exists():
        raise FrameError(path, "there is no such file")
    ending = Path(path).suffix.lower()
    if ending == ".ser":
        return _open_ser(path)
    return _open_avi(path) if ending == ".avi" else open_cube(path)


def _open_ser(path: str) -> Film:
    try:
        with Path(path).open("rb") as handle:
            head = handle.read(_SER_HEADER.size)
            size = handle.seek(0, 2)
    except OSError as error:
        raise FrameError(path, plain_reason(error)) from None
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
    return StoredFilm(
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

    capture = _capture(path, plain=False)
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
    way = _way(path, picture)
    notes = ("Its frames are in colour: the mean of the colours is measured.",) if way == "colour" else ()
    return _Video(
        path, "AVI", width, height, count, full_adu=255.0, times=np.full(count, math.nan),
        rate=rate if rate > 0 else math.nan, notes=notes, way=way,
    )  # fmt: skip
