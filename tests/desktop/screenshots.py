"""Makes docs/screenshots from the full demo night: one picture a station, at 1280 x 800."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
sys.path.insert(0, str(ROOT))


def main() -> int:
    """Run the demo's stations where they have not run, then take the pictures."""
    from PySide6.QtCore import QSettings

    from ulvar.cli.nights import prepare_demo
    from ulvar.desktop.app import make_application
    from ulvar.desktop.window import MainWindow
    from ulvar.engine import JobContext, PoolKeeper
    from ulvar.night import RUNNERS, STATIONS
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
    folder = night.folder
    night.close()
    pools.close()
    app = make_application()

    def wait(seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            app.processEvents()
            time.sleep(0.005)

    window = MainWindow("dark")
    window.resize(1280, 800)
    window.show()
    window.model.open(folder)
    wait(1.0)
    current = next(f.path for f in window.model.lights() if f.stem == "T12-V-041")
    out = ROOT / "docs" / "screenshots"
    out.mkdir(parents=True, exist_ok=True)
    wanted = [(station, "dark", station) for station in STATIONS]
    wanted += [("combine", "light", "combine-light"), ("measure", "red", "measure-red")]
    for station, theme, name in wanted:
        if theme != window.theme.name:
            window.set_theme(theme)
        window.model.set_current(current)
        if station == "intake":
            flats = next(g for g in window.model.groups() if g.role.value == "flat" and g.filter == "R")
            window.model.set_current(flats.files[0])
        window.model.set_station(station)
        if (station == "plate") != window.sky.toggles["catalogue"].isChecked():
            window.sky.toggle("catalogue")
        wait(1.2)
        window.grab().save(str(out / f"{name}.png"))
        sys.stderr.write(f"{name}.png\n")
    window.close()
    wait(0.2)
    return 0


if __name__ == "__main__":
    sys.exit(main())
