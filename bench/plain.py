"""What a competent user writes with NumPy, SciPy, OpenCV and fitsio today: the other side of each benchmark."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import cv2
import fitsio
import numpy as np
from scipy import ndimage
from works import _score, raw_files


def read(folder: Path) -> Callable[[], dict]:
    """One uint16 file into float32."""
    path = raw_files(folder)[0]
    return lambda: {"mean": round(float(fitsio.read(path).astype(np.float32)[::50, ::50].mean()), 2)}


def spread(folder: Path) -> Callable[[], dict]:
    """Median and its absolute deviation by NumPy."""
    image = np.load(folder / "stars.npy")

    def work() -> dict:
        finite = image[np.isfinite(image)]
        middle = np.median(finite)
        return {
            "median": round(float(middle), 4),
            "spread": round(1.4826 * float(np.median(np.abs(finite - middle))), 4),
        }

    return work


def _by_rows(folder: Path, reduce: Callable[[np.ndarray], np.ndarray]) -> Callable[[], dict]:
    files = raw_files(folder)

    def work() -> dict:
        handles = [fitsio.FITS(f)[0] for f in files]
        height, width = handles[0].get_dims()
        out = np.empty((height, width), dtype=np.float32)
        for y in range(0, height, 64):
            band = np.stack([h[y : min(height, y + 64), :] for h in handles]).astype(np.float32)
            out[y : y + 64] = reduce(band)
        return {"mean": round(float(out[::50, ::50].mean()), 2)}

    return work


def median(folder: Path) -> Callable[[], dict]:
    """np.median by rows."""
    return _by_rows(folder, lambda band: np.median(band, axis=0))


def _clip(band: np.ndarray) -> np.ndarray:
    masked = np.ma.masked_invalid(band)
    for _ in range(5):
        centre, spread = np.ma.median(masked, axis=0), masked.std(axis=0)
        new = np.ma.masked_where(np.abs(masked - centre) > 3 * spread, masked)
        if new.count() == masked.count():
            break
        masked = new
    return masked.mean(axis=0).filled(np.nan)


def clipped(folder: Path) -> Callable[[], dict]:
    """Masked arrays by rows."""
    return _by_rows(folder, _clip)


stack = clipped


def calibrate(folder: Path) -> Callable[[], dict]:
    """In place."""
    dark, flat, image = (np.load(folder / f"{n}.npy") for n in ("dark", "flat", "stars"))

    def work() -> dict:
        data = image.copy()
        data -= dark
        data /= flat
        return {"mean": round(float(data[::50, ::50].mean()), 2)}

    return work


def file(folder: Path) -> Callable[[], dict]:
    """Read, in place, written; the same care for the disk: flushed and renamed, with a checksum."""
    dark, flat = (np.load(folder / f"{n}.npy") for n in ("dark", "flat"))
    raw = raw_files(folder)[0]

    def work() -> dict:
        data = fitsio.read(raw).astype(np.float32)
        data -= dark
        data /= flat
        part = folder / "part.fits"
        with fitsio.FITS(str(part), "rw", clobber=True) as handle:
            handle.write(data)
            handle[0].write_checksum()
        with part.open("rb") as written:
            os.fsync(written.fileno())
        part.replace(folder / "plain.fits")
        return {"mean": round(float(data[::50, ::50].mean()), 2)}

    return work


def detect(folder: Path) -> Callable[[], dict]:
    """Blur, threshold, label, moments."""
    image = np.load(folder / "stars.npy")

    def work() -> dict:
        background = cv2.resize(
            cv2.resize(image, None, fx=1 / 64, fy=1 / 64, interpolation=cv2.INTER_AREA), image.shape[::-1]
        )
        residual = image - background
        smooth = cv2.GaussianBlur(residual, (0, 0), 1.3)
        noise = 1.4826 * np.median(np.abs(smooth - np.median(smooth)))
        labels, count = ndimage.label(smooth > 5 * noise)
        centres = np.array(ndimage.center_of_mass(residual, labels, np.arange(1, count + 1)))
        ndimage.sum(residual, labels, np.arange(1, count + 1))
        ndimage.maximum(residual, labels, np.arange(1, count + 1))
        return _score(folder, centres[:, 1], centres[:, 0])

    return work


def warp(folder: Path) -> Callable[[], dict]:
    """OpenCV's Lanczos."""
    image = np.load(folder / "stars.npy")
    matrix = np.array([[0.9999, -0.01, 7.3], [0.01, 0.9999, -4.6]])

    def work() -> dict:
        out = cv2.warpAffine(image, matrix, image.shape[::-1], flags=cv2.INTER_LANCZOS4, borderValue=float("nan"))
        return {"mean": round(float(np.nanmean(out[::50, ::50])), 2)}

    return work


def apertures(folder: Path) -> Callable[[], dict]:
    """Oversampled masks, one star at a time."""
    image, truth = np.load(folder / "stars.npy"), np.load(folder / "truth.npy")
    steps = (np.arange(10) + 0.5) / 10 - 0.5

    def work() -> dict:
        worst = 0.0
        for x, y, _ in truth:
            ix, iy = int(x), int(y)
            y0, y1, x0, x1 = (
                max(0, iy - 17),
                min(image.shape[0], iy + 18),
                max(0, ix - 17),
                min(image.shape[1], ix + 18),
            )
            stamp = image[y0:y1, x0:x1]
            dy, dx = np.arange(y0, y1)[:, None] - y, np.arange(x0, x1)[None, :] - x
            fine_y, fine_x = (dy + steps).reshape(-1)[:, None], (dx.T + steps).reshape(-1)[None, :]
            inside = (fine_y**2 + fine_x**2 <= 36).reshape(stamp.shape[0], 10, stamp.shape[1], 10).mean(axis=(1, 3))
            radius = np.hypot(dy, dx)
            sky = np.median(stamp[(radius > 10) & (radius < 15)])
            float((inside * (stamp - sky)).sum())
            worst = max(worst, abs(inside.sum() - np.pi * 36))
        return {"area_error": float(f"{worst:.1e}")}

    return work
