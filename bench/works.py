"""Our side of each benchmark: a function of the files' folder that returns the work to time."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import fitsio
import numpy as np

NAMES = ("read", "spread", "median", "clipped", "calibrate", "file", "detect", "warp", "stack", "apertures")


def shape_of(megapixels: float) -> tuple[int, int]:
    """Return height and width of a 3:2 frame."""
    height = round((megapixels * 1e6 / 1.5) ** 0.5)
    return height, round(1.5 * height)


def make_files(folder: Path, megapixels: float, frames: int) -> None:
    """Write raw frames, masters and a star field."""
    from ulvar.simulation import Psf, star_field

    rng = np.random.default_rng(1)
    height, width = shape_of(megapixels)
    base = rng.normal(1000, 12, (height, width + 64)).astype(np.float32)
    for i in range(frames):
        frame = base[:, i % 64 : i % 64 + width] + rng.normal(0, 3)
        fitsio.write(str(folder / f"raw{i:02d}.fits"), np.clip(frame, 0, 65535).astype(np.uint16), clobber=True)
    n = round(5000 * megapixels / 24)
    x, y = rng.uniform(20, width - 20, n), rng.uniform(20, height - 20, n)
    flux = 10 ** rng.uniform(2.7, 5.0, n)
    image = star_field(rng, width=width, height=height, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0))
    np.save(folder / "stars.npy", image)
    np.save(folder / "truth.npy", np.column_stack([x, y, flux]))
    np.save(folder / "dark.npy", rng.normal(300, 2, (height, width)).astype(np.float32))
    np.save(folder / "flat.npy", rng.normal(1, 0.02, (height, width)).astype(np.float32))


def raw_files(folder: Path) -> list[str]:
    """Return the raw frames."""
    return sorted(str(p) for p in folder.glob("raw*.fits"))


def read(folder: Path) -> Callable[[], dict]:
    """One uint16 file into float32."""
    from ulvar.frames import read_plane

    path = raw_files(folder)[0]
    return lambda: {"mean": round(float(read_plane(path)[::50, ::50].mean()), 2)}


def spread(folder: Path) -> Callable[[], dict]:
    """Median and robust spread of all pixels of a picture."""
    from ulvar.frames import median, robust_spread

    image = np.load(folder / "stars.npy")
    return lambda: {"median": round(median(image), 4), "spread": round(robust_spread(image), 4)}


def _combined(folder: Path, method: str) -> Callable[[], dict]:
    from ulvar.combine import Method, Rejection, combine_sources
    from ulvar.frames import FileRows

    files = raw_files(folder)

    def work() -> dict:
        result = combine_sources(
            [FileRows(f) for f in files],
            rejection=Rejection(Method(method), 3, 3),
            threads=2,
            budget_bytes=300 * 1024**2,
        )
        return {"mean": round(float(result.data[::50, ::50].mean()), 2)}

    return work


def median(folder: Path) -> Callable[[], dict]:
    """Master by median."""
    return _combined(folder, "median")


def clipped(folder: Path) -> Callable[[], dict]:
    """Master by 3-sigma clipped mean."""
    return _combined(folder, "sigma")


def calibrate(folder: Path) -> Callable[[], dict]:
    """(light - dark) / flat in memory."""
    from ulvar.calibration import Master, make_calibrator
    from ulvar.frames import ExposureFacts, Frame, Role

    facts = ExposureFacts("x")
    dark = Master(np.load(folder / "dark.npy"), Role.DARK, facts, 30, 1.0, 0.0, ())
    flat = Master(np.load(folder / "flat.npy"), Role.FLAT, facts, 30, 1.0, 0.0, ())
    apply = make_calibrator(dark=dark, flat=flat, threads=2)
    frame = Frame(np.load(folder / "stars.npy"), facts)
    return lambda: {"mean": round(float(apply(frame).data[::50, ::50].mean()), 2)}


def file(folder: Path) -> Callable[[], dict]:
    """A raw file read, calibrated and written."""
    from ulvar.calibration import CalibrateOptions, Master, make_calibrator
    from ulvar.frames import ExposureFacts, Role, read_frame, scan_file, write_fits

    facts = ExposureFacts("x")
    dark = Master(np.load(folder / "dark.npy"), Role.DARK, facts, 30, 1.0, 0.0, ())
    flat = Master(np.load(folder / "flat.npy"), Role.FLAT, facts, 30, 1.0, 0.0, ())
    apply = make_calibrator(dark=dark, flat=flat, options=CalibrateOptions(mark_defects=False), threads=2)
    raw = raw_files(folder)[0]
    out = folder / "out.fits"

    def work() -> dict:
        frame = apply(read_frame(scan_file(raw)))
        write_fits(out, frame.data, like=raw, mask=frame.mask, replace=True)
        return {"mean": round(float(frame.data[::50, ::50].mean()), 2)}

    return work


def _score(folder: Path, x: np.ndarray, y: np.ndarray) -> dict:
    from scipy.spatial import cKDTree

    truth = np.load(folder / "truth.npy")
    area = 4 * np.pi * (3 / 2.3548) ** 2
    over = truth[:, 2] / np.sqrt(area * 225) > 7
    distance, _ = cKDTree(np.column_stack([x, y])).query(truth[over, :2])
    back, _ = cKDTree(truth[:, :2]).query(np.column_stack([x, y]))
    return {"complete": round(float((distance < 1.5).mean()), 4), "false": int((back > 3).sum())}


def detect(folder: Path) -> Callable[[], dict]:
    """Find and measure stars."""
    from ulvar.stars import find_stars

    image = np.load(folder / "stars.npy")

    def work() -> dict:
        stars = find_stars(image).stars
        return _score(folder, stars.x, stars.y)

    return work


def warp(folder: Path) -> Callable[[], dict]:
    """Lanczos-3 onto a turned and shifted grid."""
    from ulvar.registration import Transform, resample

    image = np.load(folder / "stars.npy")
    matrix = np.array([[0.9999, -0.01, 7.3], [0.01, 0.9999, -4.6]])
    return lambda: {"mean": round(float(np.nanmean(resample(image, Transform(matrix), image.shape)[::50, ::50])), 2)}


def stack(folder: Path) -> Callable[[], dict]:
    """Rejection stack of registered float frames."""
    from ulvar.combine import Method, Rejection
    from ulvar.frames import FileRows
    from ulvar.stacking import StackInput, Weighting, stack_warped

    files = raw_files(folder)

    def work() -> dict:
        inputs = [StackInput(FileRows(f), 1000.0, 12.0, 3.0) for f in files]
        result = stack_warped(
            inputs,
            rejection=Rejection(Method.SIGMA, 3, 3),
            weighting=Weighting.NOISE,
            threads=2,
            budget_bytes=300 * 1024**2,
        )
        return {"mean": round(float(result.data[::50, ::50].mean()), 2)}

    return work


def apertures(folder: Path) -> Callable[[], dict]:
    """Exact apertures with annulus."""
    from ulvar.photometry import measure_apertures

    image, truth = np.load(folder / "stars.npy"), np.load(folder / "truth.npy")

    def work() -> dict:
        result = measure_apertures(
            image, truth[:, 0], truth[:, 1], radius_px=6, inner_px=10, outer_px=15, gain_e_per_adu=1.0
        )
        return {"area_error": float(f"{np.abs(result.area_px - np.pi * 36).max():.1e}")}

    return work
