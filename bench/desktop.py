"""The window under load: how long its event loop is away while a night is scored, and how fast large pictures move.

    python bench/desktop.py [--exposures 200] [--size 1.5] [--picture 60]

A tick every five milliseconds is asked of the event loop; what it comes late by is time in which a click would have
waited. Painting is real, onto an offscreen window of 1280 x 800.
"""

from __future__ import annotations

import argparse
import collections
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

import fitsio
import numpy as np

TICK_MS = 5
LATE_MS = 50
CLICK_MS = 120


def make_night(folder: Path, exposures: int, megapixels: float) -> None:
    """Write raw lights with stars, a wandering field and times."""
    from ulvar.simulation import Psf, star_field

    rng = np.random.default_rng(1)
    height = round((megapixels * 1e6 / 1.5) ** 0.5)
    width = round(1.5 * height)
    n = round(250 * megapixels)
    x, y = rng.uniform(0, width, n), rng.uniform(0, height, n)
    flux = 10 ** rng.uniform(3.0, 5.2, n)
    folder.mkdir(parents=True, exist_ok=True)
    for i in range(exposures):
        dx, dy = rng.normal(0, 2, 2)
        image = star_field(
            rng,
            width=width,
            height=height,
            x=x + dx,
            y=y + dy,
            flux_e=flux,
            psf=Psf.with_fwhm(2.8 + 0.3 * np.sin(i / 20)),
        )
        seconds = 100 * i
        cards = [
            {"name": "IMAGETYP", "value": "Light Frame"}, {"name": "EXPTIME", "value": 90.0}, {"name": "FILTER", "value": "V"},
            {"name": "DATE-OBS", "value": f"2027-02-{11 + (68400 + seconds) // 86400:02d}T{(68400 + seconds) // 3600 % 24:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"},
            {"name": "GAIN", "value": 100.0}, {"name": "OBJECT", "value": "Bench field"},
        ]  # fmt: skip
        fitsio.write(
            str(folder / f"light{i:04d}.fits"),
            np.clip(image + 500, 0, 65535).astype(np.uint16),
            header=cards,
            clobber=True,
        )


class Watchdog:
    """Counts how late the event loop's ticks come."""

    def __init__(self, blame: float = 0.0) -> None:
        from PySide6.QtCore import QTimer

        self.late_ms: list[float] = []
        self.own_ms: list[float] = []
        self._last = time.perf_counter()
        self._own = time.thread_time()
        self.doing = ""
        self.blamed: list[tuple[float, str, collections.Counter[str]]] = []
        self._seen: collections.Counter[str] = collections.Counter()
        self._blame_ms = blame
        self._timer = QTimer()
        self._timer.setInterval(TICK_MS)
        self._timer.timeout.connect(self._tick)

    def start(self) -> None:
        """Begin."""
        self._last = time.perf_counter()
        self._timer.start()
        if self._blame_ms:
            # A signal's handler runs in the window's thread between two steps of Python: nothing is looked at from outside.
            signal.signal(signal.SIGALRM, self._look)
            signal.setitimer(signal.ITIMER_REAL, 0.005, 0.005)

    def stop(self) -> None:
        """End."""
        self._timer.stop()
        if self._blame_ms:
            signal.setitimer(signal.ITIMER_REAL, 0)

    def _look(self, _number: int, frame) -> None:  # type: ignore[no-untyped-def]
        calls = []
        while frame is not None:
            code = frame.f_code
            if "ulvar" in code.co_filename:
                calls.append(f"{Path(code.co_filename).stem}.{code.co_name}:{frame.f_lineno}")
            frame = frame.f_back
        self._seen[" < ".join(calls[:9])] += 1

    def _tick(self) -> None:
        now, own = time.perf_counter(), time.thread_time()
        self.late_ms.append(max(0.0, 1000 * (now - self._last) - TICK_MS))
        self.own_ms.append(1000 * (own - self._own))
        self._own = own
        if self._blame_ms and self.late_ms[-1] > self._blame_ms:
            self.blamed.append((self.late_ms[-1], f"{self.doing}, own work {self.own_ms[-1]:.0f} ms", self._seen))
        self._seen = collections.Counter()
        self._last = now

    def blame(self) -> str:
        """Return what the late ticks were spent on."""
        lines = []
        for late, doing, seen in sorted(self.blamed, key=lambda b: -b[0]):
            lines.append(f"  {late:6.1f} ms after {doing}")
            lines += [f"      {count:3d} {where}" for where, count in seen.most_common(5)]
        return "\n".join(lines)

    def told(self) -> str:
        """Return the distribution in words."""
        late = np.array(self.late_ms)
        parts = [f"p{p:g} {np.percentile(late, p):.1f}" for p in (50, 90, 99, 99.9)]
        over = int((late > LATE_MS).sum())
        # A machine that others use too takes the processor away in the middle of things: that is no work of the window's.
        own = np.array(self.own_ms)
        return (
            f"{len(late)} ticks; late by {', '.join(parts)}, most {late.max():.1f} ms; over {LATE_MS} ms: {over}; "
            f"own work over {LATE_MS} ms: {int((own > LATE_MS).sum())}, most {own.max():.1f} ms"
        )


def wait_for(app, condition, seconds: float = 600) -> None:  # type: ignore[no-untyped-def]
    """Let the window live until something holds."""
    end = time.monotonic() + seconds
    while not condition() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.001)


def look_around(window, rng) -> str:  # type: ignore[no-untyped-def]
    """Do one of the things that users do while they wait; returns which."""
    from PySide6.QtCore import QPointF

    what = rng.choice(["step", "step", "step", "zoom", "pan", "fit", "stars", "station", "metric", "page"])
    canvas = window.sky.canvas
    if what == "step":
        if not window.model.neighbours((1,)):
            window.model.set_current(window.model.lights()[0].path)
        window.command("next")
    elif what == "zoom":
        canvas.zoom(float(rng.choice([0.7, 1.4])), QPointF(200, 200))
    elif what == "pan":
        canvas.fitted = False
        canvas.sight.centre += QPointF(10, 5)
        canvas.update()
    elif what == "fit":
        window.command("toggle fit")
    elif what == "stars":
        window.command("toggle stars")
    elif what == "station":
        what = str(rng.choice(["intake", "combine", "combine", "measure"]))
        window.model.set_station(what)
    elif what == "metric":
        window.model.numbers.set_metric(str(rng.choice(["fwhm_px", "sky_adu", "airmass"])))
    else:
        what = str(rng.choice(["exposures", "rules", "field"]))
        window.command(f"page {what}")
    return str(what)


BARE = f"""
import sys, threading, time
late, last = [], time.perf_counter()
threading.Thread(target=lambda: (sys.stdin.read(), late.append(None)), daemon=True).start()
while None not in late[-3:]:
    time.sleep({TICK_MS / 1000})
    now = time.perf_counter()
    late.append(1000 * (now - last) - {TICK_MS})
    last = now
late = [x for x in late if x is not None]
print(sum(x > {LATE_MS} for x in late), len(late), max(late))
"""


class Bare:
    """A process beside the window that does nothing but tick: what it is late by is the machine's doing."""

    def __init__(self) -> None:
        pipe = subprocess.PIPE
        self._process = subprocess.Popen([sys.executable, "-c", BARE], stdin=pipe, stdout=pipe, text=True)

    def told(self) -> str:
        """End it and return what it saw."""
        out, _ = self._process.communicate(timeout=60)
        over, count, most = out.split()
        return f"a bare loop beside it: over {LATE_MS} ms {over} of {count}, most {float(most):.0f} ms"


def taken_away() -> tuple[float, float]:
    """Return the processor time that other machines took, and all there was, in ticks since the start (Linux)."""
    numbers = [float(n) for n in Path("/proc/stat").read_text(encoding="ascii").splitlines()[0].split()[1:9]]
    return numbers[7], sum(numbers)


def watched(app, window, rng, until, blame: float, minutes: float = 10) -> Watchdog:  # type: ignore[no-untyped-def]
    """Let somebody click eight times a second until something holds; the clicks come as events, as from a mouse."""
    from PySide6.QtCore import QTimer

    dog = Watchdog(blame)
    end = time.monotonic() + 60 * minutes

    def click() -> None:
        if until() or time.monotonic() > end:
            app.exit()
            return
        dog.doing = look_around(window, rng)

    clicks = QTimer()
    clicks.setInterval(CLICK_MS)
    clicks.timeout.connect(click)
    clicks.start()
    dog.start()
    app.exec()
    clicks.stop()
    dog.stop()
    return dog


def scoring(app, folder: Path, exposures: int, megapixels: float, blame: float) -> None:  # type: ignore[no-untyped-def]
    """Score a night in the background while the user looks around."""
    from ulvar.desktop.shell.window import MainWindow

    make_night(folder / "lights", exposures, megapixels)
    window = MainWindow("dark")
    window.resize(1280, 800)
    window.show()
    window.model.open(folder / "lights")
    wait_for(app, lambda: not window.model.jobs.busy)
    wait_for(app, lambda: window.sky.settled, 30)
    window.model.set_station("combine")
    rng = np.random.default_rng(2)

    def part(name: str, until) -> None:  # type: ignore[no-untyped-def]
        began, (gone, all_there) = time.perf_counter(), taken_away()
        bare = Bare()
        dog = watched(app, window, rng, until, blame)
        beside = bare.told()
        gone, all_there = (b - a for a, b in zip((gone, all_there), taken_away()))
        print(
            f"{name} ({time.perf_counter() - began:.1f} s, other machines took {gone / max(1, all_there):.0%} of the "
            f"processors): {dog.told()}; {beside}"
        )
        if blame:
            print(dog.blame())

    def after(seconds: float):  # type: ignore[no-untyped-def]
        end = time.monotonic() + seconds
        return lambda: time.monotonic() > end

    part("looking around, nothing runs", after(10))
    window.command("run score")
    part(f"while {exposures} exposures are scored", lambda: not window.model.jobs.busy)
    part("looking around the scored night", after(15))
    steps = []
    window.model.set_station("combine")
    window.model.set_current(window.model.lights()[0].path)
    window.command("toggle fit")
    for _ in range(30):
        wait_for(app, lambda: window.sky.settled, 10)
        wait_for(app, lambda: not window.sky.loader._waiting, 10)
        began = time.perf_counter()
        window.command("next")
        wait_for(app, lambda: window.sky.settled, 10)
        app.processEvents()
        steps.append(1000 * (time.perf_counter() - began))
    print(f"stepping at fit, {megapixels:g} megapixels: median {np.median(steps):.0f} ms, most {max(steps):.0f} ms")
    window.close()


def large_picture(app, folder: Path, megapixels: float) -> None:  # type: ignore[no-untyped-def]
    """Bring large frames on screen, then zoom and pan."""
    from PySide6.QtCore import QPointF

    from ulvar.desktop.parts.theme import THEMES
    from ulvar.desktop.picture.canvas import Canvas
    from ulvar.desktop.picture.pictures import PictureLoader
    from ulvar.desktop.picture.stretch import Stretch, auto_stretch

    rng = np.random.default_rng(3)
    height = round((megapixels * 1e6 / 1.5) ** 0.5)
    width = round(1.5 * height)
    frame = rng.normal(1000, 12, (height, width)).astype(np.float32)
    for kind, data in (("uint16", np.clip(frame, 0, 65535).astype(np.uint16)), ("float32", frame)):
        for i in range(2):
            fitsio.write(str(folder / f"large-{kind}-{i}.fits"), data, clobber=True)
            (folder / f"large-{kind}-{i}.fits").read_bytes()
    for kind in ("uint16", "float32"):
        for turn in range(2):
            loader = PictureLoader()
            canvas = Canvas(THEMES["dark"])
            canvas.resize(900, 600)
            canvas.show()
            seen: list[tuple[float, object]] = []

            def arrived(path: str, picture, canvas=canvas, seen=seen) -> None:  # type: ignore[no-untyped-def]
                canvas.stretch = auto_stretch(picture.sample, Stretch())
                canvas.set_picture(picture)
                canvas.repaint()
                seen.append((time.perf_counter(), picture))

            loader.loaded.connect(arrived)
            began = time.perf_counter()
            loader.request(str(folder / f"large-{kind}-{turn}.fits"))
            wait_for(app, lambda seen=seen: seen and not seen[-1][1].quick, 30)
            first, whole = seen[0][0] - began, seen[-1][0] - began
            frames = []
            for k in range(120):
                if k % 2:
                    canvas.zoom(1.06 if k < 60 else 1 / 1.06, QPointF(300 + k, 200))
                else:
                    canvas.fitted = False
                    canvas.sight.centre += QPointF(7 / canvas.sight.scale, 3 / canvas.sight.scale)
                start = time.perf_counter()
                canvas.repaint()
                frames.append(time.perf_counter() - start)
            loader.close()
            if turn:
                print(
                    f"{megapixels:g} megapixels {kind}: first sight {1000 * first:.0f} ms, whole {1000 * whole:.0f} ms; "
                    f"pan and zoom {1 / np.median(frames):.0f} frames/s, slowest {1 / max(frames):.0f}"
                )
            canvas.close()


def main() -> int:
    """Run both."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--exposures", type=int, default=200)
    parser.add_argument("--size", type=float, default=1.5, help="megapixels of the night's exposures")
    parser.add_argument("--picture", type=float, default=60.0, help="megapixels of the large picture")
    parser.add_argument(
        "--blame",
        type=float,
        nargs="?",
        const=LATE_MS,
        default=0.0,
        metavar="MS",
        help="say what ticks late by so much were spent on",
    )
    given = parser.parse_args()
    from PySide6.QtCore import QSettings

    from ulvar.desktop.app import make_application

    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as place:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, place)
        app = make_application()
        if given.picture:
            large_picture(app, Path(place), given.picture)
        scoring(app, Path(place), given.exposures, given.size, given.blame)
    return 0


if __name__ == "__main__":
    sys.exit(main())
