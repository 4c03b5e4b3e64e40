"""A window stands on the screen before anything is loaded, answers meanwhile, and gives its place to the real one."""

import importlib
import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget
from tools.cases import FolderCase

from ulvar.desktop.app import make_application
from ulvar.desktop.shell.opening import Loading, Opening

# Starts the window as the command does, with somebody who looks on every few milliseconds and does one thing.
_STARTED = """
import json, sys
from pathlib import Path
from PySide6.QtCore import QSettings, QSize, QTimer
from PySide6.QtGui import QColor
import ulvar.desktop.app as started
from ulvar.desktop.shell import opening

what, folder = sys.argv[1], Path(sys.argv[2])
settings = QSettings("Ulvar", "Ulvar")
settings.setValue("theme", "light")
settings.setValue("size", QSize(1150, 760))
settings.sync()
app = started.make_application()
told = {"loaded": [m for m in ("numpy", "pydantic", "ulvar.night", "ulvar.desktop.models") if m in sys.modules], "seen": []}
if what == "broken":
    opening._MODULES = ("ulvar.desktop.shell.window", "ulvar.no_such_room")

def look():
    shown = {type(w).__name__: w for w in app.topLevelWidgets() if w.isVisible() and w.isWindow()}
    names = sorted(set(shown) & {"Opening", "MainWindow"})
    if not told["seen"] or told["seen"][-1] != names:
        told["seen"].append(names)
    first, window = shown.get("Opening"), shown.get("MainWindow")
    if first is not None and "text" not in told:
        told["loaded then"] = hasattr(sys.modules.get("ulvar.desktop.shell.window"), "MainWindow")
        picture = first.grab().toImage()
        told["text"], told["size"], told["title"] = first.text, [first.width(), first.height()], first.windowTitle()
        told["colours"] = [picture.pixelColor(300, y).name().upper() for y in (20, 300, 740)]
        told["wanted"] = [getattr(first.theme, name) for name in ("panel", "base", "panel")]
        # What lies in the middle is words.
        told["ink"] = len({picture.pixel(x, 380) for x in range(475, 675)}) > 3
        first.setGeometry(40, 30, 1100, 720)
        told["moved"] = [first.x(), first.y(), 1100, 720]
        if what == "closed":
            first.close()
    if window is not None and "Opening" not in shown:
        told["place"] = [window.x(), window.y(), window.width(), window.height()]
        if len(window.model.lights()) == 2 and not window.model.jobs.busy:
            timer.stop()
            window.close()

timer = QTimer()
timer.timeout.connect(look)
timer.start(3)
try:
    code = started.run_window(folder if what != "empty" else None)
except ModuleNotFoundError as error:
    code = str(error)
print(json.dumps({**told, "code": code}))
"""


class Opened(FolderCase):
    def started(self, what: str) -> dict[str, Any]:
        home = {"XDG_CONFIG_HOME": str(self.folder / "home"), "QT_QPA_PLATFORM": "offscreen"}
        done = subprocess.run(
            [sys.executable, "-c", _STARTED, what, str(self.folder / "raw")],
            capture_output=True, text=True, check=False, timeout=120, env={**os.environ, **home},
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        found: dict[str, Any] = json.loads(done.stdout)
        return found

    def setUp(self) -> None:
        super().setUp()
        for i in range(2):
            cards = {"IMAGETYP": "Light", "EXPTIME": 30.0, "FILTER": "V", "DATE-OBS": f"2027-02-11T20:0{i}:00"}
            self.write(f"raw/l{i}.fits", np.full((40, 60), 400 + i, np.uint16), **cards)

    def test_an_empty_window_gives_its_place_to_the_real_one(self) -> None:
        told = self.started("usual")
        self.assertEqual(told["loaded"], [], "nothing heavy is loaded before something is on the screen")
        self.assertFalse(told["loaded then"])
        self.assertEqual((told["text"], told["title"], told["size"]), ("Opening raw", "Ulvar", [1150, 760]))
        self.assertEqual(told["colours"], told["wanted"])
        self.assertTrue(told["ink"])
        # There is always one; the last look is after the window was closed.
        self.assertEqual(next(s for s in told["seen"] if s), ["Opening"])
        self.assertEqual([s for s in told["seen"] if s][-1], ["MainWindow"])
        self.assertNotIn([], told["seen"][:-1])
        # Moved and sized while it was empty, it stays so.
        self.assertEqual(told["place"], told["moved"])
        self.assertEqual(told["code"], 0)

    def test_closed_before_it_is_loaded_it_ends(self) -> None:
        told = self.started("closed")
        self.assertEqual(told["code"], 0)
        self.assertNotIn(["MainWindow"], told["seen"])
        self.assertFalse(Path(self.folder / "raw-night").exists())

    def test_a_process_does_not_end_while_modules_are_loaded(self) -> None:
        make_application()
        opening = Opening(QSettings(str(self.folder / "none.ini"), QSettings.Format.IniFormat), None)
        begun, asked = threading.Event(), []

        def slow(name: str) -> None:
            asked.append(name)
            begun.set()
            time.sleep(0.1)

        with mock.patch.object(importlib, "import_module", slow):
            loading = Loading(opening, QWidget)
            begun.wait(10)
            loading.wait()
            self.assertFalse(loading._thread.is_alive())
        self.assertEqual(len(asked), 1, "what was not begun is left")
        opening.close()

    def test_closed_in_the_last_moment_no_window_follows(self) -> None:
        app = make_application()
        opening = Opening(QSettings(str(self.folder / "none.ini"), QSettings.Format.IniFormat), None)
        asked: list[int] = []

        def show() -> QWidget:
            asked.append(1)
            return QWidget()

        for shown in (True, False):
            opening.setVisible(shown)
            loading = Loading(opening, show)
            loading._thread.join()
            app.processEvents()
            self.assertEqual((len(asked), opening.isVisible(), loading.error), (1, False, None))

    def test_what_cannot_be_loaded_is_raised(self) -> None:
        told = self.started("broken")
        self.assertIn("no_such_room", told["code"])
        self.assertNotIn(["MainWindow"], told["seen"])
