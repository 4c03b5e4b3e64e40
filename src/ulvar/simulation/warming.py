"""Kernels compiled ahead: a small made-up night goes through every station once, so that no real one waits for it.

Compiled kernels are kept by machine and version of their source. Until they are there, the first frame of each station would
wait for its own.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from importlib import metadata
from pathlib import Path

import platformdirs

from ulvar.engine import write_text
from ulvar.frames import fingerprint

# Small, but with everything that a night has: two filters, all kinds of calibration frames, a target.
_SIZE = {"width": 300, "height": 225, "cycles": 2, "visual": 3, "bias": 3, "darks": 4, "flats": 3}


def _stamp() -> Path:
    """Return the file that says that the kernels of this version are compiled on this machine."""
    root = Path(__file__).resolve().parent.parent
    kernels = [(str(p.relative_to(root)), p.stat().st_mtime_ns) for p in sorted(root.rglob("_kernels*.py"))]
    mark = fingerprint(
        str(root), kernels, sys.version, metadata.version("numba"), metadata.version("numpy"), _processor()
    )
    return platformdirs.user_cache_path("ulvar") / f"kernels-{mark}"


def _processor() -> str:
    """Return the processor's name: compiled for one, kernels do not serve another."""
    try:
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return ""
    return next((line for line in lines if line.startswith("model name")), "")


def kernels_ready() -> bool:
    """Whether the kernels were compiled on this machine before."""
    return _stamp().exists()


def warm_kernels() -> float:
    """Compile every kernel that a night needs; returns how long it took [s].

    Raises
    ------
    OSError
        If there is no place for a small night, or for the note that it was done.
    """
    from ulvar.engine import JobContext
    from ulvar.flows.starfind import detect_in
    from ulvar.night import STATIONS, Night, run_station
    from ulvar.night.stations import run_bodies
    from ulvar.photometry import read_star_list
    from ulvar.simulation.demo import make_demo_night
    from ulvar.simulation.demo_plan import DemoSize
    from ulvar.stars import DetectOptions

    begun = time.perf_counter()
    with tempfile.TemporaryDirectory(prefix="ulvar-") as name:
        folder = Path(name)
        truth = make_demo_night(folder, DemoSize(**_SIZE), JobContext())
        night = Night.create(folder / "night", [folder / truth["raw"]])
        try:
            night.set_meta("library", str(folder / "library"))
            settings = night.settings
            settings.plate.catalogue = str(folder / truth["catalogue"])
            settings.calibrate.repair = settings.calibrate.cosmic = settings.combine.clamp = True
            night.set_settings(settings)
            night.set_stars(read_star_list(folder / truth["stars"]))
            for station in STATIONS:
                run_station(night, JobContext(), station)
            # A night finds all stars; whoever only aligns finds the brightest.
            # The first by time: whichever file a folder lists first may be the one that is cut short.
            detect_in(night.lights()[0], DetectOptions(), quick=True)
            settings = night.settings
            settings.plate.bodies = str(folder / truth["bodies"])
            night.set_settings(settings)
            run_bodies(night, JobContext())
        finally:
            night.close()
    seconds = time.perf_counter() - begun
    write_text(_stamp(), f"{seconds:.1f} s\n")
    return seconds


def start_warming() -> subprocess.Popen[bytes] | None:
    """Compile in a process of its own at the lowest priority, unless that was done before."""
    if kernels_ready():
        return None
    return subprocess.Popen(
        [sys.executable, "-m", "ulvar.simulation.warming"], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip


if __name__ == "__main__":
    # Whoever works beside it goes first.
    os.nice(19)
    if not kernels_ready():
        warm_kernels()
