"""Runs the tests in parallel processes, headless; the last line counts them.

Usage: run_tests.py [PATTERN ...]   (a pattern picks test modules whose dotted name holds it)
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
COUNT = re.compile(r"^Ran (\d+) tests? in", re.MULTILINE)
BAD = re.compile(r"(failures|errors|unexpected successes)=(\d+)")
SKIPPED = re.compile(r"skipped=(\d+)")
# These take longest; started first they do not hold up the end.
FIRST = (
    "cli.test_whole_path", "cli.test_commands", "desktop.test_calibration", "astrometry.test_astrometry", "desktop.test_window", "desktop.test_worker",
    "night.test_calibration_night", "desktop.test_looking",
)  # fmt: skip


def modules(patterns: list[str]) -> list[str]:
    """Return the test modules to run, the longest first."""
    found = sorted(
        ".".join(path.relative_to(ROOT).with_suffix("").parts) for path in (ROOT / "tests").rglob("test_*.py")
    )
    if patterns:
        found = [name for name in found if any(p in name for p in patterns)]
    return sorted(found, key=lambda name: next((i for i, f in enumerate(FIRST) if name.endswith(f)), len(FIRST)))


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


def run(name: str) -> tuple[str, int, int, int, str, float]:
    """Run one module in a process of its own."""
    start = time.monotonic()
    command = [sys.executable, "-W", "error", "-W", "ignore::DeprecationWarning", "-m", "unittest", "-v", name]
    try:
        done = subprocess.run(
            command, cwd=ROOT, env=environment(ROOT), capture_output=True, text=True, timeout=600, check=False
        )
        output, code = done.stdout + done.stderr, done.returncode
    except subprocess.TimeoutExpired as late:
        output, code = f"{late.stdout}\n{late.stderr}\ntook more than 600 s", 1
    match = COUNT.search(output)
    total = int(match.group(1)) if match else 0
    bad = sum(int(number) for _, number in BAD.findall(output.splitlines()[-1] if output else ""))
    skip = SKIPPED.search(output.splitlines()[-1] if output else "")
    skipped = int(skip.group(1)) if skip else 0
    if code and not bad:
        # The process broke off (a crash, an import error): whatever it counted, something failed.
        bad, output = 1, f"{output}\nthe process ended with {code}"
    return name, max(0, total - bad - skipped), bad, skipped, output, time.monotonic() - start


def main() -> int:
    """Run all and say what failed."""
    names = modules(sys.argv[1:])
    passed = failed = skipped = 0
    workers = max(1, len(os.sched_getaffinity(0)))
    with ThreadPoolExecutor(workers) as pool:
        for name, good, bad, left, output, seconds in pool.map(run, names):
            passed, failed, skipped = passed + good, failed + bad, skipped + left
            print(f"{'FAIL' if bad else 'ok':4}  {name}  {good} passed, {bad} failed, {seconds:.1f} s", flush=True)
            if bad:
                print(output, flush=True)
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
