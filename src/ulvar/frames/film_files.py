"""Films of FITS: a file for each frame, or a cube.

References
----------
FITS Standard 4.0 (2018), section 9 (times), 8.1 (linear axes).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.frames.address import Address
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.facts import ExposureFacts
from ulvar.frames.film import Film, StoredFilm, native
from ulvar.frames.fits_header import header_of, image_hdu
from ulvar.frames.fits_layout import CARD, units_of
from ulvar.frames.fits_open import is_packed, open_fits
from ulvar.frames.fits_rows import FileRows
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import plain_reason, reading
from ulvar.frames.readers import is_fits_path, scan_file, scan_images

_READERS = 4
# Pixels of FITS by BITPIX.
_KINDS = {
    bits: np.dtype(code)
    for bits, code in ((8, "u1"), (16, ">i2"), (32, ">i4"), (64, ">i8"), (-32, ">f4"), (-64, ">f8"))
}


@dataclass(frozen=True)
class _Layout:
    """Where the pixels of a plain FITS file lie, and its header, which those of its fellows differ from in a few cards."""

    header: bytes
    values: Mapping[str, Any]
    kind: np.dtype
    shape: tuple[int, int]
    zero: float
    scale: float

    @classmethod
    def of(cls, path: str) -> _Layout | None:
        """Return the layout of a file; None of one that is packed, of tiles, or with blank pixels.

        Raises
        ------
        FrameError
            If it is no FITS file.
        """
        if not Path(path).is_file():
            return None
        with Path(path).open("rb") as handle:
            if not handle.read(9) == b"SIMPLE  =":
                return None
            units = units_of(lambda start, count: (handle.seek(start), handle.read(count))[1], path)
            header = (handle.seek(0), handle.read(units[0].data_start))[1]
        values = header_of(path)
        if len(units) > 1 or units[0].odd or int(values.get("NAXIS") or 0) != 2 or values.get("BLANK") is not None:
            return None
        return cls(
            header, values, _KINDS[int(values["BITPIX"])], (int(values["NAXIS2"]), int(values["NAXIS1"])),
            float(values.get("BZERO") or 0), float(values.get("BSCALE") or 1),
        )  # fmt: skip

    def facts(self, path: str) -> ExposureFacts | None:
        """Return the facts of a file whose header differs in values only, and not in those that say where pixels are; else None."""
        with Path(path).open("rb") as handle:
            header = handle.read(len(self.header))
            size = handle.seek(0, 2)
        if len(header) < len(self.header) or size < len(header) + self.kind.itemsize * self.shape[0] * self.shape[1]:
            return None
        values = dict(self.values)
        for at in range(0, len(header), CARD):
            card, own = header[at : at + CARD], self.header[at : at + CARD]
            if card == own:
                continue
            name = card[:8]
            if name != own[:8] or card[8:10] != b"= " or name.rstrip() in _PLACING:
                return None
            value = _value(card[10:])
            if value is None:
                return None
            values[name.rstrip().decode("ascii")] = value
        height, width = self.shape
        return facts_from_header(
            values, path, width=width, height=height, planes=1, bitpix=int(values["BITPIX"]), hdu=0
        )

    def read(self, paths: Sequence[str], rows: slice) -> np.ndarray:
        """Return the pixels of files of this layout, shape (files, rows, width)."""
        first, last, _ = rows.indices(self.shape[0])
        block = np.empty((len(paths), last - first, self.shape[1]), dtype=self.kind)
        start = len(self.header) + first * self.shape[1] * self.kind.itemsize
        for path, frame in zip(paths, block):
            try:
                with Path(path).open("rb", buffering=0) as handle:
                    handle.seek(start)
                    have = handle.readinto(frame.data.cast("B"))
            except OSError as error:
                raise FrameError(path, plain_reason(error)) from None
            if have != frame.nbytes:
                raise FrameError(path, "the file is cut short")
        return native(block, self.zero, self.scale)


_PLACING = (b"SIMPLE", b"BITPIX", b"NAXIS", b"NAXIS1", b"NAXIS2", b"BZERO", b"BSCALE", b"BLANK", b"PCOUNT", b"GCOUNT")


def _value(text: bytes) -> str | float | bool | None:
    """Return the value of a card; None of one that a library should read."""
    try:
        words = text.decode("ascii").strip()
        if words.startswith("'"):
            inside = words[1:].partition("'")
            return None if inside[2].startswith("'") else inside[0].rstrip()
        words = words.partition("/")[0].strip()
        if words in ("T", "F"):
            return words == "T"
        return int(words) if words.lstrip("+-").isdigit() else float(words)
    except ValueError:
        return None


@dataclass(frozen=True)
class FilesFilm(Film):
    """A FITS file for each frame."""

    files: tuple[str, ...] = ()
    layout: _Layout | None = None
    alike: tuple[bool, ...] = ()

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
        if self.layout is not None and all(self.alike[first:last]):
            return self.layout.read(self.files[first:last], rows)
        with ThreadPoolExecutor(_READERS) as pool:
            return np.stack(list(pool.map(lambda path: self._one(path, rows), self.files[first:last])))


def open_cube(path: str) -> Film:
    with reading(path, "its header"), open_fits(path) as handle:
        hdu = image_hdu(handle, path)
        info = handle[hdu].get_info()
        start = int(handle[hdu].get_offsets()["data_start"])
    dims = [int(n) for n in info["dims"]]
    if len(dims) != 3 or info["is_compressed_image"]:
        # Planes in extensions of their own, or of tiles: one by one.
        return open_files([facts.path for facts in scan_images(path)], "FITS cube")
    if is_packed(path):
        raise FrameError(path, "a cube is read as a film when it is not packed: unpack it first")
    count, height, width = dims
    # The planes' own facts would be as many; the first tells what there is, and that the file is whole.
    first = scan_images(Address(path, hdu, 0).text)[0]
    header = header_of(path)
    kind = _KINDS[int(info["img_type"])]
    zero, scale = float(header.get("BZERO") or 0), float(header.get("BSCALE") or 1)
    times, stamp, step = np.full(count, math.nan), "", _axis_seconds(header)
    if first.start_utc is not None:
        times[0], stamp = first.start_utc.timestamp(), "start"
        if step is not None:
            times = times[0] + step * np.arange(count)
    full = {8: 255.0, 16: 65535.0 if zero == 32768.0 else 32767.0}.get(int(info["img_type"]))
    return StoredFilm(
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


def open_files(paths: list[str], kind: str) -> Film:
    layout = _Layout.of(paths[0]) if is_fits_path(paths[0]) and "[" not in paths[0] else None

    def scan(path: str) -> tuple[ExposureFacts, bool]:
        """Return the facts, and whether the file lies as the first does, which reading takes short cuts by."""
        quick = layout.facts(path) if layout is not None and Path(path).is_file() else None
        return (scan_file(path), False) if quick is None else (quick, True)

    scanned = [scan(path) for path in paths]
    first = scanned[0][0]
    if not first.width or not first.height:
        raise FrameError(first.path, "it is not a two-dimensional image")
    dated = all(facts.start_utc is not None for facts, _ in scanned)
    scanned.sort(key=lambda one: (one[0].start_utc if dated else 0, one[0].path))
    facts = [one for one, _ in scanned]
    times = np.array([math.nan if f.start_utc is None else f.start_utc.timestamp() for f in facts])
    exposures = {f.exposure_s for f in facts if f.exposure_s is not None}
    return FilesFilm(
        facts[0].path, kind, first.width, first.height, len(facts), full_adu=first.saturation_adu, times=times,
        stamp="start" if np.isfinite(times).any() else "",
        exposure_s=exposures.pop() if len(exposures) == 1 else math.nan, files=tuple(f.path for f in facts),
        layout=layout, alike=tuple(alike for _, alike in scanned),
    )  # fmt: skip
