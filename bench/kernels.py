"""Resampling by each kernel, beside a general library's nearest equivalent: seconds by the clock and of processors, and the error of both.

Usage: kernels.py [--size MEGAPIXEL]
"""

from __future__ import annotations

import argparse
import math
import sys
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent))

from works import shape_of

from ulvar.registration import Kernel, Resampling, Transform, resample

# The library has Lanczos of four lobes alone.
_BESIDE = {
    Kernel.LANCZOS3: cv2.INTER_LANCZOS4, Kernel.LANCZOS4: cv2.INTER_LANCZOS4, Kernel.BICUBIC: cv2.INTER_CUBIC,
    Kernel.BILINEAR: cv2.INTER_LINEAR, Kernel.NEAREST: cv2.INTER_NEAREST,
}  # fmt: skip
_TURNED_RAD, _ROUNDS = 0.01, 3


def _scene(shape: tuple[int, int], x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return a picture that is known between pixels: waves of 6 to 40 px."""
    return sum(
        100 * np.sin(2 * math.pi * (x * math.cos(k) + y * math.sin(k)) / wave + k) for k, wave in enumerate((6.0, 9.0, 17.0, 40.0))
    )  # fmt: skip


def _timed(work: Callable[[], np.ndarray]) -> tuple[float, float, np.ndarray]:
    work()
    best = (math.inf, math.inf)
    for _ in range(_ROUNDS):
        clock, processor = time.perf_counter(), time.process_time()
        out = work()
        best = min(best, (time.perf_counter() - clock, time.process_time() - processor))
    return *best, out


def main() -> None:
    """Print a table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--size", type=float, default=24.0, metavar="MEGAPIXEL")
    shape = shape_of(parser.parse_args().size)
    height, width = shape
    y, x = np.mgrid[:height, :width].astype(np.float32)
    image = _scene(shape, x, y).astype(np.float32)
    c, s = math.cos(_TURNED_RAD), math.sin(_TURNED_RAD)
    ways = {
        "moved": np.array([[1.0, 0.0, 3.4], [0.0, 1.0, -2.7]]),
        "turned by 0.57 deg": np.array([[c, -s, 13.4], [s, c, -21.7]]),
    }
    print(
        f"{width} x {height} px; seconds by the clock (of processors); error where both have data, rms of waves of 100"
    )
    for name, matrix in ways.items():
        back = np.linalg.inv(np.vstack([matrix, [0, 0, 1]]))
        true = _scene(shape, back[0, 0] * x + back[0, 1] * y + back[0, 2], back[1, 0] * x + back[1, 1] * y + back[1, 2])
        inner = (slice(100, -100), slice(100, -100))
        for kernel, flag in _BESIDE.items():
            how = Resampling(kernel)
            ours = _timed(lambda m=matrix, h=how: resample(image, Transform(m), shape, h))
            theirs = _timed(
                lambda m=matrix, f=flag: cv2.warpAffine(image, m, (width, height), flags=f, borderValue=float("nan"))
            )
            errors = [float(np.sqrt(np.nanmean((out[inner] - true[inner]) ** 2))) for out in (ours[2], theirs[2])]
            print(
                f"{name:20s} {kernel.value:9s} {ours[0]:6.3f} ({ours[1]:6.3f})   library {theirs[0]:6.3f} ({theirs[1]:6.3f})   "
                f"ratio {theirs[0] / ours[0]:5.2f} ({theirs[1] / ours[1]:5.2f})   error {errors[0]:8.4f} and {errors[1]:8.4f}"
            )  # fmt: skip


if __name__ == "__main__":
    main()
