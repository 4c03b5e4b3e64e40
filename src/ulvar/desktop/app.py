"""Starting the window."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Callable
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication, QWidget

from ulvar.desktop.parts.theme import load_fonts
from ulvar.desktop.shell.opening import Loading, Opening
from ulvar.desktop.shell.sizing import USUAL, chosen_percent
from ulvar.desktop.work.sweeping import Sweeper, sweep_when_idle_only


def _take_size() -> None:
    """Have Qt draw all so much larger, or smaller, as the user chose; Qt asks before there is an application."""
    percent = chosen_percent(QSettings("Ulvar", "Ulvar"))
    if percent != USUAL:
        system = os.environ.get("QT_SCALE_FACTOR", "")
        factor = float(system) if system.replace(".", "", 1).isdigit() else 1.0
        os.environ["QT_SCALE_FACTOR"] = f"{factor * percent / 100:g}"


def _read_no_sources() -> None:
    """Have PySide not read the source of each module that is imported after it.

    It looks there for words that switch its own features, of which Ulvar uses none; Python keeps what was read: 10 MB of text in 25 MB.
    """
    feature: Any = sys.modules.get("shibokensupport.feature")
    if hasattr(feature, "_mod_uses_pyside"):
        feature._mod_uses_pyside = lambda module: False


def make_application() -> QApplication:
    """Return the application, made if there is none, with the shipped fonts."""
    _read_no_sources()
    if QApplication.instance() is None:
        _take_size()
    # The window's thread waits this long at most for Python's lock while another thread computes. One event asks for it
    # a hundred times, whenever Qt or NumPy gave it back: with the usual 5 ms every click would be felt.
    sys.setswitchinterval(0.0001)
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Ulvar")
    app.setOrganizationName("Ulvar")
    app.setDesktopFileName("ulvar")  # type: ignore[attr-defined]
    load_fonts()
    sweep_when_idle_only()
    return app  # type: ignore[return-value]


def _log_to_file() -> None:
    folder = platformdirs.user_log_path("ulvar")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError:
        return
    handler = RotatingFileHandler(folder / "ulvar.log", maxBytes=1_000_000, backupCount=3)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("ulvar").addHandler(handler)


def run_window(path: Path | None = None) -> int:
    """Open the window and stay until it closes; returns the exit code.

    Without any display the reason and the headless form are printed instead, with exit code 3.
    """
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        sys.stderr.write(
            "There is no display here, so the window cannot open. Every step has a command: see ulvar --help;\n"
            "the demo without a window: ulvar demo --no-window\n"
        )
        return 3
    _log_to_file()
    app = make_application()
    opening = Opening(QSettings("Ulvar", "Ulvar"), path)
    opening.show()
    ends: list[Callable[[], object]] = []

    def show() -> QWidget:
        from ulvar.desktop.shell.places import Places
        from ulvar.desktop.shell.window import MainWindow
        from ulvar.desktop.work.warming import Warmer

        window = MainWindow()
        places = Places(window, window.model, window.settings)
        app.aboutToQuit.connect(places.keep)
        ends.extend(
            (
                Sweeper(window, window.use, lambda: window.occupied).stop,
                Warmer(window, window.model.message.emit).stop,
            )
        )
        if not opening.isMaximized():
            # It may have been moved, or sized, in the meantime.
            window.resize(opening.size())
            window.move(opening.pos())
        window.show()
        if path is not None:
            window.model.open(path)
        return window

    loading = Loading(opening, show)
    code = int(app.exec())
    loading.wait()
    for end in ends:
        end()
    if loading.error is not None:
        raise loading.error
    return code
