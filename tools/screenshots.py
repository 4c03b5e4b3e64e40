"""Makes docs/screenshots from the full demo night: one picture a station, at 1280 x 800."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PySide6.QtGui import QImage
    from PySide6.QtWidgets import QWidget

    from ulvar.desktop.shell.window import MainWindow

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

# Pages of the Combine board that have a picture of their own.
COMBINE_PAGES = ("rules", "field", "alignment", "result")


def calibrate_page(window: MainWindow, page: str, wait: Callable[[float], None]) -> None:
    """Turn the Calibrate board to a page, with the picture that goes with it."""
    window.board_of["calibrate"].turn_to(page)  # type: ignore[attr-defined]
    for key, on in (("defects", page == "defects"), ("swipe", False)):
        if window.sky.header.toggles[key].isChecked() != on:
            window.sky.toggle(key)
    wait(1.5)


def combine_page(window: MainWindow, page: str, wait: Callable[[float], None]) -> None:
    """Turn the Combine board to a page, with the picture and the tools that go with it."""
    window.command(f"page {page}")
    sky = window.sky
    for key, on in (("stars", page == "field"), ("closeup", page == "field"), ("swipe", False)):
        if sky.on(key) != on:
            sky.toggle(key)
    wait(0.8)
    if page == "field":
        # A star to look at closely: bright, alone, in the middle half.
        table = sky.stars_of(window.model.current)
        height, width = sky.canvas.picture.shape
        inside = (abs(table.x - width / 2) < width / 4) & (abs(table.y - height / 2) < height / 4) & (table.flags == 0)
        star = int(inside.nonzero()[0][0])
        window.model.looking.choose_star((float(table.x[star]), float(table.y[star])))
        sky.instruments.look_closely(float(table.x[star]), float(table.y[star]))
    if page == "result":
        stack = window.model.of_series("stack")
        sky.show_file(stack.output, f"Stack of {stack.values['count']}")
        wait(0.8)
        window.model.stacks.point_at(300, 200)
        while window.model.stacks.history is None:
            wait(0.2)
    wait(0.4)


def pair_page(window: MainWindow, wait: Callable[[float], None]) -> None:
    """Name the target and a star near by the pair, and measure them in every exposure."""
    model, sky = window.model, window.sky
    if not sky.on("pair"):
        sky.toggle("pair")
    target, table = model.numbers.star_pixels(model.current)["Tarnholt 12"], sky.stars_of(model.current)
    away = ((table.x - target[0]) ** 2 + (table.y - target[1]) ** 2) ** 0.5
    near = int(((away > 50) & (away < 100)).nonzero()[0][0])
    model.sky.draw_pair(model.current, (float(table.x[near]), float(table.y[near])), target)
    while model.sky.measuring:
        wait(0.1)
    window.command("run pair")
    while model.jobs.busy:
        wait(0.1)
    # Rows that came just now are not gone to as those are that an earlier run left.
    here = model.current
    for path in (model.lights()[0].path, here):
        model.set_current(path)
        wait(0.5)


def measure_page(window: MainWindow, page: str, wait: Callable[[float], None]) -> None:
    """Turn the Measure board to a page, with what it shows."""
    for key in ("loupe", "stars", "closeup"):
        if window.sky.on(key):
            window.sky.toggle(key)
    for key, wanted in (("growth", page == "aperture"), ("field", page == "field")):
        if wanted and not window.model.products(key):
            window.command(f"run {key}")
            wait(0.3)
            while window.model.jobs.busy:
                wait(0.1)
    key = {"candidates": "comparisons", "aperture": "aperture", "field": "whole"}.get(page, "measured")
    window.command(f"page {key}")
    while page == "candidates" and window.model.field.candidates() is None:
        wait(0.2)
    wait(0.5)


def nights_panel(window: MainWindow, wait: Callable[[float], None], still: Callable[[QWidget], QImage]) -> QImage:
    """Return the target over nights, of a star that was eclipsed on most of nine nights."""
    from bench.made_nights import PERIOD, follow_star
    from PySide6.QtCore import QSettings

    from ulvar.desktop.dialogs.target import TargetPanel

    with tempfile.TemporaryDirectory(prefix="ulvar-") as folder:
        panel = TargetPanel(window, window.theme, QSettings(), follow_star(Path(folder)), "Tarnholt 12")
        panel.resize(1280, 800)
        panel.show()

        def ready() -> None:
            wait(0.2)
            while panel.nights.busy or panel.nights.searching:
                wait(0.1)
            wait(0.2)

        ready()
        panel.turn_to("minima")
        panel.nights.time("eclipse")
        ready()
        panel.shown.period.setValue(PERIOD)  # type: ignore[union-attr]
        panel.shown.fit.click()  # type: ignore[union-attr]
        ready()
        picture = still(panel)
        panel.reject()
    return picture


def main() -> int:
    """Run the demo's stations where they have not run, then take the pictures."""
    from PySide6.QtCore import QSettings
    from PySide6.QtTest import QTest

    from ulvar.cli.nights import prepare_demo
    from ulvar.desktop.app import make_application
    from ulvar.desktop.shell.window import MainWindow
    from ulvar.engine import JobContext, PoolKeeper
    from ulvar.night import RUNNERS, STATIONS
    from ulvar.night.stations import run_deep
    from ulvar.simulation import make_demo_night

    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, tempfile.mkdtemp(prefix="ulvar-"))
    place = ROOT / "build" / "demo"
    pools = PoolKeeper()
    context = JobContext(executor=pools.get())
    truth = make_demo_night(place, context=context)
    night = prepare_demo(place, truth)
    for station in STATIONS:
        if night.state(station) in ("empty", "stale"):
            RUNNERS[station](night, context)
            if station == "combine":
                run_deep(night, context)
    folder = night.folder
    night.close()
    pools.close()
    app = make_application()

    def wait(seconds: float) -> None:
        # A busy machine has few turns in its time.
        end, turns = time.monotonic() + seconds, round(100 * seconds)
        while time.monotonic() < end or turns > 0:
            app.processEvents()
            time.sleep(0.005)
            turns -= 1

    def still(widget: QWidget) -> QImage:
        """Return the picture of a window as soon as it is twice the same: not in between two layouts."""
        picture = widget.grab().toImage()
        for _ in range(20):
            wait(0.2)
            before, picture = picture, widget.grab().toImage()
            if picture == before:
                break
        return picture

    window = MainWindow("dark")
    window.resize(1280, 800)
    window.show()
    window.model.open(folder)
    wait(1.0)
    while window.model.jobs.busy:
        wait(0.1)
    # One of an earlier run would be drawn on every picture.
    window.model.set_setting("plate", "pair", None)
    current = next(f.path for f in window.model.lights() if f.stem == "T12-V-041")
    out = ROOT / "docs" / "screenshots"
    out.mkdir(parents=True, exist_ok=True)
    wanted = [(station, "dark", station) for station in STATIONS]
    wanted += [("measure", "red", "measure-red")]
    wanted += [("calibrate", "dark", f"calibrate-{page}") for page in ("defects",)]
    wanted += [("combine", "dark", f"combine-{page}") for page in COMBINE_PAGES]
    wanted += [("measure", "dark", f"measure-{page}") for page in ("aperture", "candidates", "field")]
    wanted += [("plate", "dark", "plate-pair"), ("measure", "dark", "looking")]
    for station, theme, name in wanted:
        if theme != window.theme.name:
            window.set_theme(theme)
        window.model.set_current(current)
        if station == "intake":
            flats = next(g for g in window.model.groups() if g.role.value == "flat" and g.filter == "R")
            window.model.set_current(flats.files[0])
        window.model.set_station(station)
        page = name.partition("-")[2] if name.startswith("calibrate-") else "lights"
        if station == "calibrate":
            calibrate_page(window, page, wait)
        if station == "combine":
            page = name.partition("-")[2]
            combine_page(window, page if page in COMBINE_PAGES else "exposures", wait)
        if name == "plate-pair":
            pair_page(window, wait)
        if station == "measure" and name != "looking":
            measure_page(window, name.partition("-")[2], wait)
        if name == "looking":
            combine_page(window, "field", wait)
            window.model.set_station("measure")
            window.sky.toggle("loupe")
            wait(0.5)
            place = window.sky.canvas.sight.to_screen(*window.model.numbers.star_pixels(current)["Tarnholt 12"])
            QTest.mouseMove(window.sky.canvas, place.toPoint())
        if (name == "plate") != window.sky.header.toggles["catalogue"].isChecked():
            window.sky.toggle("catalogue")
        wait(1.2)
        while window.model.curves.coming or not window.sky.settled:
            wait(0.3)
        # What a job said at its end passes by; whether it is still there depends on the machine.
        window.toast.hide()
        still(window).save(str(out / f"{name}.png"))
        sys.stderr.write(f"{name}.png\n")
    window.set_theme("dark")
    nights_panel(window, wait, still).save(str(out / "nights.png"))
    sys.stderr.write("nights.png\n")
    window.close()
    wait(0.2)
    return 0


if __name__ == "__main__":
    sys.exit(main())
