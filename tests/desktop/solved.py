"""The small scored night with its plates solved, made once for all, and a window with a copy of it at Plate."""

from __future__ import annotations

import shutil
from pathlib import Path

from tests.desktop.scored import ScoredCase
from tests.desktop.scored import _make as _make_scored
from tests.support import made_once, small_demo
from ulvar.engine import JobContext
from ulvar.night import Night
from ulvar.night.stations import run_plate


def _make(folder: Path) -> None:
    shutil.copytree(made_once("scored", _make_scored) / "night", folder / "night")
    night = Night.for_path(folder / "night")
    settings = night.settings
    settings.plate.catalogue = str(small_demo() / "catalogue.csv")
    night.set_settings(settings)
    run_plate(night, JobContext())
    night.close()


class SolvedCase(ScoredCase):
    """Tests on a copy of the solved night."""

    @classmethod
    def setUpClass(cls) -> None:
        """Solve the night once."""
        super().setUpClass()
        ScoredCase.made = made_once("solved", _make) / "night"

    def setUp(self) -> None:
        """Open a copy at Plate."""
        super().setUp()
        self.model.set_station("plate")
        self.shown()
        self.quiet()

    @property
    def board(self):  # type: ignore[no-untyped-def]
        """The board of Plate."""
        return self.window.board_of["plate"]

    def turn(self, page: str):  # type: ignore[no-untyped-def]
        """Turn the board to a page by its button and return the page."""
        self.click(self.board.page_buttons[page])
        self.quiet()
        return self.board.shown
