"""Raw files of cameras, through LibRaw: the mosaic as it was measured, nothing subtracted, nothing interpolated."""

from __future__ import annotations

import logging
import os
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ulvar.engine import F32Array
from ulvar.frames.dialects import role_from_path
from ulvar.frames.facts import ExposureFacts, Role
from ulvar.frames.fits_layout import MAX_PIXELS
from ulvar.frames.frame import FrameError
from ulvar.frames.gate import reading
from ulvar.frames.times import later, parse_time

if TYPE_CHECKING:
    import rawpy

# What it finds odd in a file comes out as facts that are not known; it writes to the terminal besides.
logging.getLogger("exifread").setLevel(logging.CRITICAL)


def _tags(path: str) -> Mapping[str, Any]:
    import exifread

    try:
        with Path(path).open("rb") as handle:
            return exifread.process_file(handle, details=False)  # type: ignore[no-any-return]
    except Exception:
        # Metadata in a form nobody foresaw must not hide pixels that can be read.
        return {}


def _ratio(tags: Mapping[str, Any], *names: str) -> float | None:
    for name in names:
        values = getattr(tags.get(name), "values", None)
        if values:
            try:
                return float(values[0])
            except (TypeError, ValueError, ZeroDivisionError):
                continue
    return None


def _words(tags: Mapping[str, Any], *names: str) -> str:
    return next((str(tags[n]).strip() for n in names if n in tags and str(tags[n]).strip()), "")


def exif_facts(path: str, **known: Any) -> ExposureFacts:
    """Return what a picture file's own metadata say: exposure, ISO (as gain), time, camera.

    The clock of such a camera tells no time zone unless the file says so; its time is then taken for UTC and
    the origin reads ``guessed``, which intake makes a finding of.
    """
    tags = _tags(path)
    origins: dict[str, str] = {}
    values: dict[str, Any] = {"camera": _words(tags, "Image Model"), "software": _words(tags, "Image Software")}
    for name, keys in {
        "exposure_s": ("EXIF ExposureTime", "Image ExposureTime"),
        "gain": ("EXIF ISOSpeedRatings", "EXIF PhotographicSensitivity", "Image ISOSpeedRatings"),
    }.items():
        values[name] = _ratio(tags, *keys)
        if values[name] is not None:
            origins[name] = "metadata"
    start, zoned = _moment(tags)
    if start is not None:
        values["start_utc"] = start
        values["mid_utc"] = later(start, (values["exposure_s"] or 0.0) / 2)
        origins["start_utc"] = "metadata" if zoned else "guessed"
    focal = _ratio(tags, "EXIF FocalLength")
    number = _ratio(tags, "EXIF FNumber")
    if focal:
        values["focal_length_mm"] = focal
        origins["focal_length_mm"] = "metadata"
    if focal and number:
        values["aperture_mm"] = focal / number
        origins["aperture_mm"] = "metadata"
    named = role_from_path(path)
    if named is not None:
        origins["role"] = "path"
    role, master = named or (Role.UNKNOWN, False)
    status = Path(path).stat()
    return ExposureFacts(
        path=path, role=role, is_master=master, size_bytes=status.st_size, mtime_ns=status.st_mtime_ns,
        origins=origins, **{**values, **known},
    )  # fmt: skip


def _moment(tags: Mapping[str, Any]) -> tuple[datetime | None, bool]:
    """Return the start of the exposure and whether its time zone is known."""
    text = _words(tags, "EXIF DateTimeOriginal", "Image DateTimeOriginal", "Image DateTime")
    day, _, clock = text.partition(" ")
    if not clock:
        return None, False
    part = _words(tags, "EXIF SubSecTimeOriginal", "EXIF SubSecTime")
    zone = _words(tags, "EXIF OffsetTimeOriginal", "EXIF OffsetTime", "Image OffsetTimeOriginal")
    fraction = f".{part[:6]}" if part.isdigit() else ""
    moment = parse_time(f"{day.replace(':', '-')}T{clock}{fraction}{zone}")
    if moment is None and zone:
        return parse_time(f"{day.replace(':', '-')}T{clock}{fraction}"), False
    return moment, bool(zone)


class _Hushed:
    """Keeps what a library of C writes to the terminal by itself away from it; sentences come from us.

    Several threads may be inside: the first one in turns standard error away, the last one out back.
    """

    def __init__(self) -> None:
        self._lock, self._inside, self._kept = threading.Lock(), 0, -1

    def __enter__(self) -> None:
        with self._lock:
            self._inside += 1
            if self._inside == 1:
                try:
                    self._kept = os.dup(2)
                except OSError:
                    # There is no standard error to be written to.
                    self._kept = -1
                    return
                nowhere = os.open(os.devnull, os.O_WRONLY)
                os.dup2(nowhere, 2)
                os.close(nowhere)

    def __exit__(self, *told: object) -> None:
        with self._lock:
            self._inside -= 1
            if self._inside == 0 and self._kept >= 0:
                os.dup2(self._kept, 2)
                os.close(self._kept)


_hushed = _Hushed()


@contextmanager
def _opened(path: str) -> Iterator[rawpy.RawPy]:
    """Yield a camera's raw file; what LibRaw says of it, then or later, is told in words."""
    import rawpy

    if not Path(path).is_file():
        raise FrameError(path, "it is no ordinary file" if Path(path).exists() else "there is no such file")
    try:
        with _hushed, rawpy.imread(path) as raw:
            yield raw
    except rawpy.LibRawError as error:
        text = str(error.args[0] if error.args else error)
        if isinstance(error.args[0] if error.args else "", bytes):
            text = error.args[0].decode("utf-8", "replace")
        damaged = any(word in text.lower() for word in ("data", "i/o", "input/output"))
        reason = "the file is cut short or damaged" if damaged else text
        raise FrameError(path, f"it cannot be read as a camera's raw file: {reason}") from None


def _check_size(raw: rawpy.RawPy, path: str) -> Any:
    """Return LibRaw's sizes; memory for the pixels is made by what they say, so they may not say anything."""
    sizes = raw.sizes
    if not 0 < sizes.raw_width * sizes.raw_height <= MAX_PIXELS or not sizes.width or not sizes.height:
        raise FrameError(path, f"its metadata give {sizes.raw_width} x {sizes.raw_height} pixels")
    return sizes


def scan_raw(path: str) -> list[ExposureFacts]:
    """Return the facts of a camera's raw file; its pixels are not unpacked.

    Raises
    ------
    FrameError
        If LibRaw cannot read it, or its sensor is not a 2 x 2 colour mosaic or mono.
    """
    with reading(path, "its metadata"), _opened(path) as raw:
        sizes = _check_size(raw, path)
        pattern = raw.raw_pattern
        white = float(raw.white_level) if raw.white_level else None
        blacks = [float(b) for b in raw.black_level_per_channel]
        if pattern is None:
            cfa = ""
        elif pattern.shape == (2, 2):
            colors = raw.color_desc.decode("ascii", "replace")
            cfa = "".join(colors[i] for i in pattern.ravel())
        else:
            raise FrameError(path, f"its colour pattern is {pattern.shape[0]} x {pattern.shape[1]}, not 2 x 2")
    facts = exif_facts(
        path, width=int(sizes.width), height=int(sizes.height), bitpix=16, cfa=cfa, saturation_adu=white,
        black_adu=float(np.mean(blacks)) if blacks else None,
    )  # fmt: skip
    origins = dict(facts.origins)
    origins.update(dict.fromkeys(("cfa", "saturation_adu", "black_adu"), "metadata"))
    return [replace(facts, origins=origins)]


def raw_pixels(path: str) -> F32Array:
    """Return the mosaic as measured [ADU], float32, rows in the order of the sensor's read-out.

    Raises
    ------
    FrameError
        If LibRaw cannot read it.
    """
    with reading(path, "its pixels"), _opened(path) as raw:
        _check_size(raw, path)
        image = raw.raw_image_visible
        if image is None or image.ndim != 2:
            raise FrameError(path, "it does not hold one value a pixel")
        return np.array(image, dtype=np.float32)
