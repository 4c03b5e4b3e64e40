"""Questions to a thread of their own: each has its answer, also where it fails; nobody is alarmed without need."""

import logging
import time
import unittest
from collections.abc import Callable

from PySide6.QtWidgets import QApplication

from ulvar.desktop.app import make_application
from ulvar.desktop.work.background import Asker
from ulvar.frames import FrameError
from ulvar.night import NightClosed


def failing(error: Exception) -> Callable[[], object]:
    """Return work that ends with an error."""

    def work() -> object:
        raise error

    return work


class Questions(unittest.TestCase):
    def test_each_is_answered_in_turn_and_only_what_is_wrong_is_logged(self) -> None:
        make_application()
        asker, answers = Asker("test"), {}
        self.addCleanup(asker.close, wait=True)
        asker.found.connect(lambda key, answer: answers.__setitem__(key, answer))
        with self.assertLogs("ulvar", logging.WARNING) as logged:
            asker.ask("sum", lambda: 2 + 3)
            asker.ask("file", failing(FrameError("a.fits", "it is cut off")))
            asker.ask("closed", failing(NightClosed("night.sqlite was closed")))
            asker.ask("defect", failing(KeyError("x")))
            end = time.monotonic() + 10
            while len(answers) < 4 and time.monotonic() < end:
                QApplication.processEvents()
        self.assertEqual(list(answers), ["sum", "file", "closed", "defect"])
        self.assertEqual(list(answers.values()), [5, "it is cut off", "night.sqlite was closed", "KeyError: 'x'"])
        self.assertEqual(len(logged.records), 1)
        assert logged.records[0].exc_info is not None
        self.assertIs(logged.records[0].exc_info[0], KeyError)
