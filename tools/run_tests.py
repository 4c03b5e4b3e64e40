"""Runs the tests in parallel processes, headless; the last line counts them.

Usage: run_tests.py [PATTERN ...]   (a pattern picks test modules whose dotted name holds it)
"""

from __future__ import annotations

import os
import re
import shutil
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue

from folders import made_folder
from forked import Runner, Runners

ROOT = Path(__file__).resolve().parent.parent
COUNT = re.compile(r"^Ran (\d+) tests? in", re.MULTILINE)
BAD = re.compile(r"(failures|errors|unexpected successes)=(\d+)")
# No module takes so long [s].
LONGEST = 600
# What tests write lies in memory where so many bytes are free there: a tenth of their processor time went to the disk.
MEMORY, ROOM = Path("/dev/shm"), 6 << 30
SKIPPED = re.compile(r"skipped=(\d+)")
# These take longest; started first they do not hold up the end. The first makes nights that others wait for, which the next ones do not.
FIRST = (
    "desktop.test_plate", "test_without_compiler", "flows.test_mosaic", "lightcurves.test_joint", "stars.test_fields", "desktop.test_calibration",
    "desktop.test_actions", "desktop.test_window", "cli.test_whole_path", "desktop.test_all_series", "desktop.test_worker", "cli.test_field",
    "night.test_calibration_night", "astrometry.test_astrometry",
)  # fmt: skip


def modules(patterns: list[str]) -> list[str]:
    """Return the test modules to run, the longest first."""
    found = sorted(
        ".".join(path.relative_to(ROOT).with_suffix("").parts) for path in (ROOT / "tests").rglob("test_*.py")
    )
    if patterns:
        found = [name for name in found if any(p in name for p in patterns)]
    found.sort(key=lambda name: next((i for i, f in enumerate(FIRST) if name.endswith(f)), len(FIRST)))
    # The storm takes long, too, but its commands are watched: they find the routines compiled by then.
    for name in [name for name in found if name.endswith(".test_storm")]:
        found.remove(name)
        found.insert(2 * len(found) // 3, name)
    return found


def available() -> int:
    """Return the memory [B] that can be had."""
    said = re.search(r"^MemAvailable:\s+(\d+) kB", Path("/proc/meminfo").read_text(encoding="ascii"), re.MULTILINE)
    return 1024 * int(said.group(1)) if said else 0


def environment(root: Path) -> dict[str, str]:
    """Return the environment in which the tests of a tree run: without a display, its own code first."""
    result = {
        # A suite decides whether work may land: the made-up examples are the same at every run, which is what
        # hypothesis does where it sees this. Look for new ones with `python -m unittest tests.test_parsers`.
        "CI": "true",
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        # Whatever ends a process says where.
        "PYTHONFAULTHANDLER": "1",
        # The tree that the tests stand in is the one they test, also in a copy of it.
        "PYTHONPATH": f"{root}{os.pathsep}{root / 'src'}",
        "OPENBLAS_NUM_THREADS": "1",
        "XDG_CONFIG_HOME": str(root / "build" / "test-config"),
        "XDG_DATA_HOME": str(root / "build" / "test-data"),
        "XDG_STATE_HOME": str(root / "build" / "test-state"),
    }
    result.pop("DISPLAY", None)
    return result


def run(name: str, runners: SimpleQueue[Runner]) -> tuple[str, int, int, int, str, float, float]:
    """Run one module in a process of its own."""
    start = time.monotonic()
    runner = runners.get()
    with tempfile.NamedTemporaryFile(prefix="ulvar-test-") as told:
        try:
            code, cpu = runner.run([name], LONGEST, Path(told.name))
        finally:
            runners.put(runner)
        output = Path(told.name).read_text(encoding="utf-8", errors="replace")
    if code is None:
        code, output = 1, f"{output}\ntook more than {LONGEST} s"
    match = COUNT.search(output)
    total = int(match.group(1)) if match else 0
    bad = sum(int(number) for _, number in BAD.findall(output.splitlines()[-1] if output else ""))
    skip = SKIPPED.search(output.splitlines()[-1] if output else "")
    skipped = int(skip.group(1)) if skip else 0
    if code and not bad:
        # The process broke off (a crash, an import error): whatever it counted, something failed.
        bad, output = 1, f"{output}\nthe process ended with {code}"
    return name, max(0, total - bad - skipped), bad, skipped, output, time.monotonic() - start, cpu


def main() -> int:
    """Run all and say what failed."""
    names = modules(sys.argv[1:])
    passed = failed = skipped = 0
    # Two more than there are processors: whoever drives a window waits a good part of the time.
    workers = 2 + max(1, len(os.sched_getaffinity(0)))
    runners: SimpleQueue[Runner] = SimpleQueue()
    # What processes that were ended leave behind goes with it.
    roomy = MEMORY.is_dir() and os.access(MEMORY, os.W_OK) and min(shutil.disk_usage(MEMORY).free, available()) > ROOM
    place = made_folder("ulvar-tests-", MEMORY if roomy else None)
    # Commands and workers that tests start find modules compiled, as users' do, whatever this machine asks for.
    given = environment(ROOT) | {"TMPDIR": str(place)}
    given.pop("PYTHONDONTWRITEBYTECODE", None)
    made = Runners(ROOT, given, workers, workers=True)
    for runner in made.each:
        runners.put(runner)
    try:
        with ThreadPoolExecutor(workers) as pool:
            for name, good, bad, left, output, seconds, cpu in pool.map(lambda name: run(name, runners), names):
                passed, failed, skipped = passed + good, failed + bad, skipped + left
                print(
                    f"{'FAIL' if bad else 'ok':4}  {name}  {good} passed, {bad} failed, {seconds:.1f} s, {cpu:.1f} s of a processor",
                    flush=True,
                )
                if bad:
                    print(output, flush=True)
    finally:
        made.close()
        shutil.rmtree(place, ignore_errors=True)
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
