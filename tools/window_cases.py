"""Driving the real window offscreen."""

import shutil
import sys
import threading
import time
import traceback
import unittest
from collections.abc import Callable
from unittest import mock

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget
from tools.cases import remember_stars
from tools.folders import made_folder
from tools.shown import at_rest
from tools.warm import WarmPools
from tools.windows import cut, nothing_lives, watch_loose_widgets

from ulvar.desktop.app import make_application
from ulvar.desktop.shell.window import MainWindow


class WindowCase(unittest.TestCase):
    """A test with a window of its own, closed with everything it started."""

    # Whether each window starts workers of its own, as it does in use.
    own_pools = False

    @classmethod
    def setUpClass(cls) -> None:
        """Make the application."""
        cls.app = make_application()

    def setUp(self) -> None:
        """Make folder and window."""
        self.folder = made_folder("ulvar-test-")
        self.addCleanup(shutil.rmtree, self.folder, True)
        # What goes wrong in a slot is only printed by Qt; here it fails the test.
        self.wrong: list[str] = []
        hook = mock.patch.object(
            sys, "excepthook", lambda *error: self.wrong.append("".join(traceback.format_exception(*error))[-900:])
        )
        hook.start()
        self.addCleanup(lambda: self.assertEqual(self.wrong, [], "an exception in a slot"))
        self.addCleanup(hook.stop)
        if not self.own_pools:
            warm = mock.patch("ulvar.desktop.models.jobs.PoolKeeper", WarmPools.of)
            warm.start()
            self.addCleanup(warm.stop)
            remember_stars(self)
        # Changes are one step of undo if no time lies between; how fast a machine goes must not say.
        self.passed_s = 0.0
        clock = mock.patch("ulvar.desktop.models.edits.monotonic", lambda: self.passed_s)
        clock.start()
        self.addCleanup(clock.stop)
        watch_loose_widgets(self, self.wrong)
        self.addCleanup(nothing_lives, self, set(threading.enumerate()))
        self.window = MainWindow("dark")
        self.messages: list[str] = []
        self.window.model.message.connect(self.messages.append)
        self.window.show()
        self.addCleanup(self._close)
        QApplication.processEvents()

    def _close(self) -> None:
        # All who read the settings share them.
        if (shared := self.window.model.caches.get("settings")) is not None and self.window.model.night is not None:
            self.assertEqual(shared, self.window.model.night.settings)
        # Whatever still runs is stopped without a question.
        self.window.may_close = lambda: True
        self.window.close()
        QApplication.processEvents()
        # A window that stays is styled anew with every later one.
        self.window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)

    def until(self, condition: Callable[[], object], seconds: float = 120.0, what: str = "") -> None:
        """Let the window live until something holds."""
        end = time.monotonic() + seconds
        while not condition():
            if time.monotonic() > end:
                self.fail(f"not within {seconds} s: {what or condition}")
            QApplication.processEvents()
            time.sleep(0.01)
        self.passed_s += 1.0
        QApplication.processEvents()

    def look_at(self, part: QWidget) -> None:
        """Hold a part to how it looked; what is read on it has room."""
        self.assertEqual(cut(part), [])
        at_rest(self, part)

    def idle(self) -> None:
        """Wait for the running job."""
        self.until(lambda: not self.window.model.jobs.busy, 300, "the job to end")

    def quiet(self) -> None:
        """Let what follows in later turns have its turns."""
        self.passed_s += 1.0
        for _ in range(20):
            QApplication.processEvents()
            QTest.qWait(3)

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """Press a key in the window."""
        self.window.activateWindow()
        # A small window that just closed has taken the keyboard with it.
        QApplication.processEvents()
        self.window.setFocus()
        QTest.keyClick(self.window, key, modifier)
        QApplication.processEvents()

    def click(self, widget: QWidget, x: float | None = None, y: float | None = None) -> None:
        """Click a widget, in the middle unless told where."""
        place = widget.rect().center() if x is None or y is None else QPoint(round(x), round(y))
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
        QApplication.processEvents()

    def drag(self, widget: QWidget, start: QPointF, end: QPointF) -> None:
        """Drag with the left button."""
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start.toPoint())
        middle = (start + end) / 2
        for place in (middle, end):
            QTest.mouseMove(widget, place.toPoint())
            QApplication.processEvents()
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end.toPoint())
        QApplication.processEvents()
