"""How much processor time commands and the window take to start, beside a bare Python and one with NumPy.

Usage: start.py [--rounds N]

Each start is a process of its own; the least of the rounds counts. See docs/benchmarks.md for what was measured.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import fitsio
import numpy as np

import ulvar

COMMAND = "import sys; from ulvar.cli.main import main; main()"
OPENING = """
from PySide6.QtCore import QSettings
from ulvar.desktop.app import make_application
from ulvar.desktop.shell.opening import Opening
app = make_application()
opening = Opening(QSettings("Ulvar", "Ulvar"), None)
opening.show()
app.processEvents()
import os
os._exit(0)
"""
WINDOW = """
import sys
from ulvar.desktop.app import make_application
app = make_application()
from ulvar.desktop.shell.window import MainWindow
window = MainWindow()
window.show()
app.processEvents()
sys.stdout.flush()
import os
os._exit(0)
"""
FOLDER = """
import os, sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
import ulvar.desktop.app as started

def look():
    for window in QApplication.topLevelWidgets():
        model = getattr(window, "model", None)
        if model is not None and len(model.lights()) == 200 and not model.jobs.busy:
            os._exit(0)

app = started.make_application()
timer = QTimer()
timer.timeout.connect(look)
timer.start(10)
started.run_window(Path(sys.argv[1]))
"""
ROOM = "import importlib; room = importlib.import_module('ulvar.{0}'); [getattr(room, name) for name in room.__all__]"


def started(code: str, *arguments: str) -> tuple[float, float, float]:
    """Return processor seconds, seconds and peak megabytes of a Python process that runs some code."""
    began = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-c", code, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, _, used = os.wait4(process.pid, 0)
    return used.ru_utime + used.ru_stime, time.perf_counter() - began, used.ru_maxrss / 1024


def lights(folder: Path, count: int) -> str:
    """Write exposures as cameras do, for a folder to be sorted."""
    folder.mkdir()
    rng = np.random.default_rng(8)
    for i in range(count):
        cards = {
            "IMAGETYP": "Light",
            "EXPTIME": 60.0,
            "FILTER": "BVR"[i % 3],
            "DATE-OBS": f"2031-02-03T{18 + i // 60}:{i % 60:02}:00",
        }
        data = rng.integers(300, 500, (300, 400)).astype(np.uint16)
        fitsio.write(str(folder / f"im{i}.fits"), data, header=[{"name": k, "value": v} for k, v in cards.items()])
    return str(folder)


def main() -> int:
    """Start each a few times and print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=5)
    rounds = parser.parse_args().rounds
    rooms = sorted(stub.parent.name for stub in Path(ulvar.__file__).parent.glob("*/__init__.pyi"))
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as folder:
        ten, many = lights(Path(folder, "ten"), 10), lights(Path(folder, "many"), 200)
        works: list[tuple[str, str, tuple[str, ...]]] = [
            ("bare Python", "pass", ()),
            ("Python with NumPy and fitsio", "import numpy, fitsio", ()),
            ("ulvar --help", COMMAND, ("--help",)),
            ("ulvar with wrong usage", COMMAND, ("no-such-command",)),
            ("ulvar sort, 10 files", COMMAND, ("sort", ten)),
            ("window on screen, empty", OPENING, ()),
            ("window on screen, with everything", WINDOW, ()),
            ("window with a folder of 200 files sorted", FOLDER, (many,)),
            *((f"room {room}, all of it", ROOM.format(room), ()) for room in rooms),
        ]
        os.environ["XDG_CONFIG_HOME"] = folder
        bare = 0.0
        print(f"{'start':<32}{'CPU s':>8}{'s':>8}{'MB':>8}{'x bare Python':>15}")
        for name, code, arguments in works:
            cpu, wall, peak = (min(row) for row in zip(*(started(code, *arguments) for _ in range(rounds))))
            bare = bare or cpu
            print(f"{name:<32}{cpu:>8.2f}{wall:>8.2f}{peak:>8.0f}{cpu / bare:>15.1f}", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
