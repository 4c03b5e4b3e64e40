"""Every page looks and reads as it did when it was looked at: words, places and states of its parts, and its picture.

What is seen is kept in `tests/numbers/desktop.test_views.json` and, 8x8 pixels to one, in `views-*.png`. Where a page changes on purpose:
`ULVAR_KEEP=1 ./run test desktop.test_views` keeps it anew; then look at the pages of `docs/screenshots`, and at what changed in the file.
"""

import shutil
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPoint, QPointF
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QWidget
from tools.looks import other_blocks, pixels, small, told
from tools.nights import worked_night
from tools.same import kept
from tools.window_cases import WindowCase

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.picture.header import TOGGLES
from ulvar.night import STATIONS

# So many blocks of a page may look otherwise on another machine.
FEW = 6


class Views(WindowCase):
    """A night that went all the way, page by page."""

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(worked_night(), self.folder / "made", symlinks=True)
        self.window.resize(1280, 800)
        self.model = self.window.model
        self.model.open(self.folder / "made" / "night")
        self.idle()
        self.model.set_current(next(f.path for f in self.model.lights() if f.filter == "V"))
        self.seen: set[str] = set()
        self.words: list[str] = []
        self.looks: dict[str, np.ndarray] = {}

    def look(self, name: str, part: QWidget | None = None) -> None:
        """Keep what is seen by now, of the words those that were not there before."""
        model, part = self.model, part or self.window

        def waits() -> bool:
            return any(type(said) is QLabel and said.isVisible() and said.text().endswith("…") for said in part.findChildren(QLabel))

        # Until nobody is at work and nothing comes in any more.
        before: list[str] = []
        while before != (before := told(part)):
            self.until(lambda: self.window.sky.settled and not (model.jobs.busy or model.curves.coming or waits()), 60, name)
            self.quiet()
            QTest.qWait(150)
        self.window.toast.hide()
        new = [line for line in before if line not in self.seen]
        self.seen.update(new)
        self.words += [f"== {name}", *new]
        self.looks[name] = small(pixels(part.grab().toImage()))

    def compare(self) -> None:
        """Compare all of it with what was kept."""
        path = Path(__file__).with_name(f"views-{self._testMethodName.removeprefix('test_')}.png")
        other = other_blocks(self.looks, path)
        kept(self, self.words)
        self.assertEqual({name: blocks[:5] for name, blocks in other.items() if len(blocks) > FEW}, {}, "blocks look otherwise")

    def test_pages(self) -> None:
        for station in STATIONS:
            self.model.set_station(station)
            self.look(station)
            board = self.window.board_of[station]
            for page in list(getattr(board, "page_buttons", ())):
                self.click(board.page_buttons[page])
                self.look(f"{station} {page}")
        self.compare()

    def test_picture(self) -> None:
        self.model.set_station("measure")
        canvas = self.window.sky.canvas
        for one in TOGGLES:
            self.window.sky.toggle(one.key)
            QTest.mouseMove(canvas, QPoint(200, 150))
            if one.key in ("profile", "box", "pair"):
                self.drag(canvas, QPointF(120, 90), QPointF(260, 170))
            self.look(one.key, self.window.sky)
            self.window.sky.toggle(one.key)
        self.compare()

    def test_panels(self) -> None:
        self.model.set_station("curve")
        for word in ("facts", "header", "sessions", "star places", "exchange", "export picture"):
            self.window.command(word)
            self.quiet()
            (panel,) = (w for w in QApplication.topLevelWidgets() if isinstance(w, Panel) and w.isVisible())
            self.look(word, panel)
            panel.reject()
            self.quiet()
        self.compare()
