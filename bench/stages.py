"""Raw exposures to a stack: processor seconds a frame and peak memory, stage by stage, beside the mapped read of the files.

Usage: stages.py [--size MEGAPIXEL] [--frames N] [--memory GIB]

Stages are the ones of the command line (calibrate, stars, align, stack), in workers as there; their seconds are those of this
process and all its workers.
"""

from __future__ import annotations

import argparse
import os
import resource
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from dataclasses import replace
from pathlib import Path

import fitsio
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent))

from works import shape_of

from ulvar.engine import JobContext, PoolKeeper
from ulvar.flows import (
    StackOptions,
    align_agreeing,
    calibrate_lights,
    find_all,
    load_masters,
    plan_calibration,
    stack_exposures,
)
from ulvar.flows.agreement import Agreement
from ulvar.flows.lights import ready_facts
from ulvar.frames import ExposureFacts, read_plane, scan_file, write_fits


def _family(pid: int) -> list[int]:
    """Return a process and all below it; of one that ends meanwhile, what was seen."""
    found = [pid]
    with suppress(OSError):
        for task in Path(f"/proc/{pid}/task").iterdir():
            for child in (task / "children").read_text().split():
                found += _family(int(child))
    return found


class Watch:
    """Processor seconds of this process and its workers, and the most memory that all have at once."""

    def __init__(self) -> None:
        self.peak_mb = 0.0
        self._ticks = os.sysconf("SC_CLK_TCK")
        threading.Thread(target=self._look, daemon=True).start()

    def _look(self) -> None:
        while True:
            total = 0
            for pid in _family(os.getpid()):
                try:
                    lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
                except OSError:
                    continue
                # Pages that several share count in parts; mapped files of the page cache are not counted.
                total += sum(int(line.split()[1]) for line in lines if line.startswith("Pss_Anon:"))
            self.peak_mb = max(self.peak_mb, total / 1024)
            time.sleep(0.05)

    def seconds(self) -> float:
        """Return processor seconds up to now."""
        total = 0.0
        for pid in _family(os.getpid()):
            try:
                fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
            except OSError:
                continue
            total += sum(int(f) for f in fields[11:15]) / self._ticks
        return total


@contextmanager
def stage(watch: Watch, name: str, frames: int) -> Iterator[None]:
    """Tell what a stage costs."""
    watch.peak_mb = 0.0
    start, clock = watch.seconds(), time.perf_counter()
    yield
    cost, clock = watch.seconds() - start, time.perf_counter() - clock
    sys.stdout.write(f"{name:<22}{cost / frames:>8.2f} s a frame{clock:>9.1f} s{watch.peak_mb:>8.0f} MB\n")
    sys.stdout.flush()


def make_night(folder: Path, megapixels: float, frames: int) -> tuple[list[ExposureFacts], Path]:
    """Write raw exposures of one field, dithered, and masters that fit them."""
    from ulvar.simulation import Psf, star_field

    rng = np.random.default_rng(5)
    height, width = shape_of(megapixels)
    n = round(3000 * megapixels / 24)
    x, y, flux = rng.uniform(0, width, n), rng.uniform(0, height, n), 10 ** rng.uniform(2.8, 5.0, n)
    flat = 1 - 0.2 * ((np.arange(width) / width - 0.5) ** 2)[None, :] * np.ones((height, 1))
    masters = folder / "masters"
    for kind, data, seconds in (("BIAS", 300.0, 0.0), ("FLAT", flat, 1.0)):
        cards = {
            "IMAGETYP": f"master {kind.lower()}",
            "EXPTIME": seconds,
            "FILTER": "V" if kind == "FLAT" else None,
            "NCOMBINE": 30,
        }
        plane = (np.zeros((height, width)) + data).astype(np.float32)
        write_fits(masters / f"{kind.lower()}.fits", plane, cards={k: v for k, v in cards.items() if v is not None})
    made = []
    # One sky, drawn once and moved: what is timed is not the drawing.
    sky = star_field(rng, width=width + 64, height=height + 64, x=x + 32, y=y + 32, flux_e=flux, psf=Psf.with_fwhm(3.0))
    for k in range(frames):
        dx, dy = (int(v) for v in rng.integers(0, 64, 2))
        image = sky[dy : dy + height, dx : dx + width] * flat + 300 + rng.normal(0, 4, (height, width))
        cards = {
            "IMAGETYP": "light",
            "EXPTIME": 120.0,
            "GAIN": 1.0,
            "FILTER": "V",
            "DATE-OBS": f"2027-02-11T20:{k // 2:02d}:{k % 2 * 30:02d}",
        }
        path = folder / f"light-{k:03d}.fits"
        fitsio.write(str(path), np.clip(image, 0, 65535).astype(np.uint16), header=cards, clobber=True)
        made.append(scan_file(str(path)))
    return made, masters


def main() -> int:
    """Make the night, then work on it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--size", type=float, default=24.0)
    parser.add_argument("--frames", type=int, default=10)
    parser.add_argument("--memory", type=float, default=2.0)
    parser.add_argument("--steps", action="store_true", help="The same with files in between, too.")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        folder = Path(held)
        lights, masters = make_night(folder, given.size, given.frames)
        workers = max(1, len(os.sched_getaffinity(0)))
        pools = PoolKeeper(workers, polite=False)
        context = JobContext(budget_bytes=int(given.memory * 1024**3), workers=workers, executor=pools.get())
        watch = Watch()
        sys.stdout.write(
            f"{given.frames} exposures of {given.size:g} megapixels, {workers} cores, budget {given.memory:g} GiB\n"
        )
        # Kernels are loaded, in workers too, before anything is timed.
        small = folder / "warm"
        small.mkdir()
        night = make_night(small, 1.0, 4)
        for path in (one_pass, work):
            path(*night, small / path.__name__, context, lambda name: nullcontext())
        with stage(watch, "mapped read", given.frames):
            for one in lights:
                read_plane(one.path)
        one_pass(lights, masters, folder / "one", context, lambda name: stage(watch, name, given.frames))
        if given.steps:
            work(lights, masters, folder / "out", context, lambda name: stage(watch, name, given.frames))
        pools.close()
    own = resource.getrusage(resource.RUSAGE_SELF)
    sys.stdout.write(f"this process alone: {own.ru_utime + own.ru_stime:.1f} s, {own.ru_maxrss / 1024:.0f} MB\n")
    return 0


def one_pass(
    lights: list[ExposureFacts],
    masters: Path,
    out: Path,
    context: JobContext,
    told: Callable[[str], AbstractContextManager[None]],
) -> None:
    """Stack raw exposures that are calibrated on the way, as `ulvar stack --masters` does."""
    with told("from raw: find stars"):
        plan = plan_calibration(lights, load_masters(masters)[0])
        calibrations = {t.facts.path: t for t in plan.tasks}
        ready = [ready_facts(f, calibrations[f.path]) for f in lights]
        scored, _ = find_all(ready, context, quick=True, calibrations=calibrations)
    with told("align"):
        agreement = align_agreeing(scored, context)
    with told("from raw: warp, reject"):
        stack_exposures(
            lights, out / "stack.fits", context, options=on(agreement), scored=scored, aligned=agreement.aligned,
            calibrations=calibrations,
        )  # fmt: skip


def on(agreement: Agreement) -> StackOptions:
    """Return the usual options with the reference that was agreed upon."""
    return replace(StackOptions(), reference=agreement.reference.facts.path)


def work(
    lights: list[ExposureFacts],
    masters: Path,
    out: Path,
    context: JobContext,
    told: Callable[[str], AbstractContextManager[None]],
) -> None:
    """Calibrate, find, align and stack exposures."""
    known, _ = load_masters(masters)
    with told("calibrate"):
        done, _ = calibrate_lights(lights, known, out / "calibrated", context)
    calibrated = [scan_file(o.output) for o in done if o.ok]
    with told("find stars"):
        scored, _ = find_all(calibrated, context, quick=True)
    with told("align"):
        agreement = align_agreeing(scored, context)
    with told("warp and reject"):
        stack_exposures(
            calibrated, out / "stack.fits", context, options=on(agreement), scored=scored, aligned=agreement.aligned
        )


if __name__ == "__main__":
    sys.exit(main())
