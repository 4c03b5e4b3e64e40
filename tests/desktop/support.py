"""Driving the real window offscreen."""

import gc
import multiprocessing
import shutil
import sys
import threading
import time
import traceback
import unittest
from collections.abc import Callable
from unittest import mock

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget
from shiboken6 import isValid
from tools.folders import made_folder
from tools.shown import at_rest

from tests.desktop.cut import cut
from tests.support import WarmPools
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
        hook = mock.patch.object(sys, "excepthook", lambda *error: self.wrong.append("".join(traceback.format_exception(*error))[-900:]))
        hook.start()
        self.addCleanup(lambda: self.assertEqual(self.wrong, [], "an exception in a slot"))
        self.addCleanup(hook.stop)
        if not self.own_pools:
            warm = mock.patch("ulvar.desktop.models.jobs.PoolKeeper", WarmPools.of)
            warm.start()
            self.addCleanup(warm.stop)
        # Changes are one step of undo if no time lies between; how fast a machine goes must not say.
        self.passed_s = 0.0
        clock = mock.patch("ulvar.desktop.models.edits.monotonic", lambda: self.passed_s)
        clock.start()
        self.addCleanup(clock.stop)
        self._no_loose_widgets()
        before = set(threading.enumerate())
        self.addCleanup(self._nothing_lives, before)
        self.window = MainWindow("dark")
        self.messages: list[str] = []
        self.window.model.message.connect(self.messages.append)
        self.window.show()
        self.addCleanup(self._close)
        QApplication.processEvents()

    def _no_loose_widgets(self) -> None:
        """A part that is shown before it has a place is a window of its own for a moment, and takes the keyboard."""
        real = QWidget.setVisible

        def seen(widget: QWidget, on: bool) -> None:
            if on and widget.parentWidget() is None and not widget.windowFlags() & Qt.WindowType.Popup & ~Qt.WindowType.Window:
                self.wrong.append(f"{type(widget).__name__} {getattr(widget, 'text', str)()!r} is shown without a place")
            real(widget, on)

        watch = mock.patch.object(QWidget, "setVisible", seen)
        watch.start()
        self.addCleanup(watch.stop)

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

    def _nothing_lives(self, before: set[threading.Thread]) -> None:
        """A closed window leaves no thread, no worker process and no ticking timer behind."""

        def living() -> list[object]:
            timers = [o for o in gc.get_objects() if type(o) is QTimer and isValid(o) and o.isActive()]
            warm = WarmPools.all_of_it()
            threads = {t for t in threading.enumerate() if t not in before and t not in warm}
            return [*threads, *(p for p in multiprocessing.active_children() if p not in warm), *timers]

        end = time.monotonic() + 10.0
        while left := living():
            if time.monotonic() > end:
                self.fail(f"still there after the window was closed: {left}")
            QApplication.processEvents()
            time.sleep(0.02)

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
