"""A window with a small scored night in it: 36 raw V lights, aligned and judged, made once for all."""

import shutil
from pathlib import Path

from tools.nights import scored_night
from tools.window_cases import WindowCase


class ScoredCase(WindowCase):
    """Tests on a copy of the scored night."""

    made: Path | None = None

    @classmethod
    def setUpClass(cls) -> None:
        """Score the night once."""
        super().setUpClass()
        ScoredCase.made = scored_night()

    def setUp(self) -> None:
        """Open a copy at Combine."""
        super().setUp()
        assert ScoredCase.made is not None
        shutil.copytree(ScoredCase.made, self.folder / "night")
        self.window.model.open(self.folder / "night")
        self.idle()
        self.model = self.window.model
        self.model.set_station("combine")
        self.sky = self.window.sky
        self.shown()

    def shown(self) -> None:
        """Wait for the picture that is asked for."""
        self.until(lambda: self.sky.settled, 30, "the picture on screen")

    def page(self, name: str):  # type: ignore[no-untyped-def]
        """Turn the Combine board to a page and return it."""
        self.window.command(f"page {name}")
        return self.window.board_of["combine"].shown  # type: ignore[attr-defined]
