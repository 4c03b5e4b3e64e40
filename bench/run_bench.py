"""Ours beside the plain NumPy, SciPy and OpenCV version of the same work, in one run; ratios and peak memory.

Usage: run_bench.py [NAME ...] [--size MEGAPIXEL] [--rounds N]

Each side runs in a process of its own, so that peak memory is its own; times are the best of the rounds
after a first call that compiles. Files are in the page cache. See docs/benchmarks.md for what was measured.
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))

import plain
import works


def _peak_kb() -> int:
    """Return this process's own peak memory (a child inherits its parent's figure in getrusage)."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmHWM:"):
            return int(line.split()[1])
    return 0


def _side(connection, name: str, side: str, folder: str, rounds: int) -> None:  # type: ignore[no-untyped-def]
    module = plain if side == "plain" else works
    if side == "ours":
        # As a worker process of the window and the command line does.
        from ulvar.engine import keep_large_blocks

        keep_large_blocks()
    work: Callable[[], dict] = getattr(module, name)(Path(folder))
    base = _peak_kb()
    note = work() if side == "ours" else {}
    best = float("inf")
    for _ in range(rounds):
        start = time.perf_counter()
        note = work()
        best = min(best, time.perf_counter() - start)
    peak = _peak_kb()
    connection.send({"seconds": best, "peak_mb": peak / 1024, "rise_mb": (peak - base) / 1024, **note})


def measure(name: str, side: str, folder: Path, rounds: int) -> dict:
    """Run one side in a fresh process."""
    context = multiprocessing.get_context("spawn")
    receiver, sender = context.Pipe(False)
    process = context.Process(target=_side, args=(sender, name, side, str(folder), rounds))
    process.start()
    sender.close()
    result = receiver.recv()
    process.join()
    return result


def main() -> int:
    """Make the files, run both sides of each work, print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("names", nargs="*", help=", ".join(works.NAMES))
    parser.add_argument("--size", type=float, default=24.0, help="frame size in megapixels")
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--frames", type=int, default=30)
    options = parser.parse_args()
    names = options.names or list(works.NAMES)
    folder = Path(tempfile.mkdtemp(prefix="ulvar-bench-"))
    try:
        works.make_files(folder, options.size, options.frames)
        print(f"{options.size:g} megapixels, {options.frames} frames")
        print(f"{'work':<12}{'plain s':>10}{'ours s':>10}{'ratio':>8}{'plain MB':>10}{'ours MB':>10}  notes")
        for name in names:
            theirs = measure(name, "plain", folder, max(1, options.rounds - 1))
            ours = measure(name, "ours", folder, options.rounds)
            notes = {k: [theirs.get(k), v] for k, v in ours.items() if k not in ("seconds", "peak_mb", "rise_mb")}
            ratio = theirs["seconds"] / ours["seconds"]
            print(
                f"{name:<12}{theirs['seconds']:>10.3f}{ours['seconds']:>10.3f}{ratio:>8.1f}{theirs['peak_mb']:>10.0f}"
                f"{ours['peak_mb']:>10.0f}  {json.dumps(notes) if notes else ''}",
                flush=True,
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
