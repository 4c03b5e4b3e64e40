"""Plate: where is this on the sky, and how far apart?"""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.plate.bodies import BodiesPage
from ulvar.desktop.boards.plate.pair import PairPage
from ulvar.desktop.boards.plate.places import PlacesPage
from ulvar.desktop.boards.plate.solutions import SolutionsPage
from ulvar.engine import counted

PAGES = (
    ("solutions", "Solutions", "Where each exposure is on the sky"),
    ("pair", "Pair", "Separation and position angle of two stars, in every exposure"),
    ("bodies", "Bodies", "Moving bodies: where they are in every exposure, and how far off their table"),
    ("places", "Places", "All that has a name on the sky: targets, marks, bodies"),
)  # fmt: skip
Page = SolutionsPage | PairPage | BodiesPage | PlacesPage
_MAKERS: dict[str, type[Page]] = {
    "solutions": SolutionsPage, "pair": PairPage, "bodies": BodiesPage, "places": PlacesPage,
}  # fmt: skip


class PlateBoard(Board):
    """Pages about the sky; each is built when it is turned to."""

    width_hint = 476

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "solutions"
        self.shown: Page | None = None
        super().__init__(*arguments)
        self.model.sky.changed.connect(self._sky_changed)

    def fill(self) -> None:
        """Build the page that is turned to, or say what is to be done first."""
        # Until a page is built there is nothing that the current exposure could be told in.
        self.shown = None
        plates, scores = self.model.of_members("plate"), self.model.scores()
        self.title.setText("Plate solutions")
        if not scores:
            self.count.setText("")
            self.say_empty("Score the exposures first: their stars are matched with the catalogue.")
            return
        self.count.setText(f"{len(plates)} of {len(scores)} solved")
        self.page_buttons = self.add_pages(PAGES, self.page, self.turn_to)
        if self.page == "solutions" and not plates and not self.model.of_members("plate_failed"):
            stars = next(iter(scores.values())).values["stars"]
            told = (
                ""
                if self.model.settings().plate.catalogue
                else " Choose a star catalogue at the right: a CSV file with ra and dec."
            )
            self.say_empty(f"Not solved; {counted(stars, 'star')} found in the first exposure.{told}")
            return
        self.shown = _MAKERS[self.page](self.model, self.theme, self.command)
        self.shown.refresh()
        leaves = QStackedWidget()
        leaves.addWidget(self.shown)
        self.body.addWidget(leaves, 1)

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        self._stale = True
        if self.isVisible():
            self.rebuild()

    def refresh(self) -> bool:
        """Let the page in sight follow, where it has what it shows."""
        plates, scores = self.model.of_members("plate"), self.model.scores()
        if (
            self.shown is None
            or not scores
            or (self.page == "solutions" and not plates and not self.model.of_members("plate_failed"))
        ):
            return False
        if not isinstance(self.shown, _MAKERS[self.page]):
            return False
        self.count.setText(f"{len(plates)} of {len(scores)} solved")
        self.shown.refresh()
        return True

    def _sky_changed(self) -> None:
        if self.isVisible() and self.shown is not None and not isinstance(self.shown, SolutionsPage):
            self.shown.refresh()

    def show_current(self, path: str) -> None:
        """Tell of the current exposure."""
        if self.shown is not None:
            self.shown.show_current(path)
