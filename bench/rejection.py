"""Rejection of registered frames in scratch files, beside reading the same files mapped: seconds and peak memory.

Usage: rejection.py [--size MEGAPIXEL] [--frames N] [--memory GIB]
"""

from __future__ import annotations

import argparse
import resource
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent))

from works import shape_of

from ulvar.combine import combine_stack, suited
from ulvar.flows.warping import ScratchRows
from ulvar.stacking import STACK_REJECTION, StackInput, Weighting, stack_warped

_ROUNDS, _SLAB = 3, 500


def _made(folder: Path, shape: tuple[int, int], frames: int) -> list[StackInput]:
    """Write frames of noise about levels that differ."""
    rng = np.random.default_rng(1)
    inputs = []
    for k in range(frames):
        path = folder / f"{k}.f32"
        with path.open("wb") as file:
            for y in range(0, shape[0], _SLAB):
                rows = min(_SLAB, shape[0] - y)
                file.write(rng.normal(300 + k, 15, (rows, shape[1])).astype(np.float32).tobytes())
        inputs.append(StackInput(ScratchRows(str(path), shape), 300.0 + k, 15.0, 3.0, 1.0, 1.0, None))
    return inputs


def main() -> None:
    """Print both, and how many times the one takes the other."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--size", type=float, default=24.0)
    parser.add_argument("--frames", type=int, default=40)
    parser.add_argument("--memory", type=float, default=0.9)
    given = parser.parse_args()
    shape = shape_of(given.size)
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        folder = Path(held)
        inputs = _made(folder, shape, given.frames)
        # Kernels are loaded and limits found before anything is timed.
        limits = suited(STACK_REJECTION, given.frames)
        combine_stack(np.ones((given.frames, 4, 999), dtype=np.float32), rejection=limits, maps=True)
        for _ in range(_ROUNDS):
            clock, processor = time.perf_counter(), time.process_time()
            for k in range(given.frames):
                np.memmap(folder / f"{k}.f32", dtype=np.float32, mode="r", shape=shape).sum(dtype=np.float32)
            read = time.perf_counter() - clock, time.process_time() - processor
            clock, processor = time.perf_counter(), time.process_time()
            stack_warped(
                inputs, rejection=limits, weighting=Weighting.EQUAL, maps=True, threads=2,
                budget_bytes=int(given.memory * 1024**3),
            )  # fmt: skip
            own = time.perf_counter() - clock, time.process_time() - processor
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            sys.stdout.write(
                f"{given.frames} x {given.size:g} megapixels: mapped read {read[0]:.2f} s (processors {read[1]:.2f}), "
                f"rejection with maps {own[0]:.2f} s (processors {own[1]:.2f}): {own[0] / read[0]:.1f} times; {peak:.0f} MB\n"
            )


if __name__ == "__main__":
    main()
