"""The window says that kernels are being compiled, and when they are; closing it ends that."""

import subprocess
import sys
import unittest
from unittest import mock

from PySide6.QtCore import QObject
from tools.window_cases import WindowCase

from ulvar.desktop.app import make_application
from ulvar.desktop.work import warming


class Told(WindowCase):
    def warmer(self, code: str | None) -> warming.Warmer:
        """Return one whose process runs some Python, or has nothing to do."""
        self.process = None if code is None else subprocess.Popen([sys.executable, "-c", code])
        warmer = warming.Warmer(self.window, self.window.model.message.emit, lambda: self.process)
        self.addCleanup(warmer.stop)
        return warmer

    def test_begun_and_done(self) -> None:
        said: list[str] = []
        self.window.model.message.connect(said.append)
        self.warmer("pass")
        self.until(lambda: warming.DONE in said)
        self.assertEqual(said, [warming.BEGUN, warming.DONE])
        self.assertEqual(self.window.toast.text(), warming.DONE)

    def test_nothing_to_do_is_not_told(self) -> None:
        said: list[str] = []
        self.window.model.message.connect(said.append)
        warmer = self.warmer(None)
        self.until(lambda: warmer._begun)
        self.assertEqual(said, [])

    def test_closing_ends_it(self) -> None:
        warmer = self.warmer("import time; time.sleep(600)")
        self.until(lambda: self.window.toast.text() == warming.BEGUN)
        warmer.stop()
        self.assertIsNotNone(self.process.poll())


class Alone(unittest.TestCase):
    def test_it_tells_the_end_and_is_ended_with_the_window(self) -> None:
        make_application()
        parent, said, process = QObject(), [], mock.Mock(returncode=None)
        process.poll.return_value = None
        warmer = warming.Warmer(parent, said.append, lambda: process)
        self.assertTrue(warmer._timer.isSingleShot() and warmer._timer.interval() == warming._BEGIN_MS)
        warmer._look()
        warmer._look()
        self.assertEqual((said, warmer._timer.interval()), ([warming.BEGUN], warming._LOOK_MS))
        warmer.stop()
        self.assertFalse(warmer._timer.isActive())
        process.terminate.assert_called_once_with()
        for code, words in ((0, [warming.BEGUN, warming.DONE]), (1, [warming.BEGUN])):
            said.clear()
            warmer = warming.Warmer(parent, said.append, lambda: process)
            warmer._look()
            warmer._timer.stop()
            process.poll.return_value = process.returncode = code
            warmer._look()
            self.assertEqual((said, warmer._timer.isActive()), (words, False))
            process.poll.return_value = None
