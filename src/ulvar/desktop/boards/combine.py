"""Combine: which exposures deserve to be in, and how well do they line up?"""

from __future__ import annotations

from PySide6.QtWidgets import QScrollArea, QWidget

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.combine_exposures import ExposuresPage
from ulvar.desktop.boards.combine_field import FieldPage
from ulvar.desktop.boards.combine_rules import RulesPage
from ulvar.desktop.boards.combine_stars import StarsPage
from ulvar.desktop.widgets import empty_state

_PAGES = (
    ("exposures", "Exposures", "Every exposure with its qualities, and a scatter of any two"),
    ("rules", "Rules and score", "What keeps exposures from the stack, what the score weighs, and what that makes of the stack"),
    ("stars", "Stars", "The stars of the exposure on screen, and the limits of finding them"),
    ("field", "Field", "Width and shape of stars over the field: tilt, curvature, coma"),
)  # fmt: skip


class CombineBoard(Board):
    """Four pages about the same question."""

    width_hint = 520

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "exposures"
        self.pages: dict[str, QWidget] = {}
        self._shown: ExposuresPage | RulesPage | StarsPage | FieldPage | None = None
        self._sorted = ("score", False)
        super().__init__(*arguments)
        self.model.brush_changed.connect(self._brushed)
        self.model.star_chosen.connect(self._star_chosen)

    def fill(self) -> None:
        """Build the page that is turned to."""
        self.close_page()
        scores = self.model.products("score")
        self.title.setText("Scores")
        if not scores:
            self.count.setText("")
            n = len([f for f in self.model.lights() if f.path not in self.model.left_out()])
            if n:
                self.body.addWidget(
                    empty_state("No exposure is scored yet.", f"Score {n}", lambda: self.command("run score"))
                )
            else:
                self.body.addWidget(
                    empty_state(
                        "There are no lights to combine.", "Go to Intake", lambda: self.command("station intake")
                    )
                )
            return
        members = self.model.comparable()
        keep, _ = self.model.stack_plan()
        self.count.setText(f"{len(keep)} of {len(members)} {self.model.working_filter()} exposures kept")
        self.page_buttons = self.add_pages(_PAGES, self.page, self.turn_to)
        if self.page == "rules":
            self._shown = RulesPage(self.model, self.theme)
            scroll = QScrollArea()
            scroll.setWidgetResizable(True)
            scroll.setWidget(self._shown)
            self.body.addWidget(scroll, 1)
        elif self.page == "stars":
            self._shown = StarsPage(self.model, self.theme)
            self.body.addWidget(self._shown, 1)
        elif self.page == "field":
            self._shown = FieldPage(self.model, self.theme)
            self.body.addWidget(self._shown, 1)
        else:
            self._shown = ExposuresPage(self.model, self.theme, self.show_file, self._sorted)
            self.body.addWidget(self._shown, 1)

    @property
    def shown(self):  # type: ignore[no-untyped-def]
        """The page in sight, or None."""
        return self._shown

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        self._stale = True
        self.rebuild()

    def close_page(self, *, wait: bool = False) -> None:
        """End what a page runs in the background, and keep what it is to remember."""
        if isinstance(self._shown, StarsPage):
            self._shown.close_finder(wait=wait)
        if isinstance(self._shown, ExposuresPage):
            self._sorted = self._shown.order
        self._shown = None

    def mark_stale(self) -> None:
        """Build anew, but not under the user's hand: pages with controls follow by themselves."""
        if isinstance(self._shown, (RulesPage, StarsPage)) and self.isVisible() and self.model.products("score"):
            self._shown.refresh()
            self._recount()
            return
        super().mark_stale()

    def _recount(self) -> None:
        keep, _ = self.model.stack_plan()
        self.count.setText(
            f"{len(keep)} of {len(self.model.comparable())} {self.model.working_filter()} exposures kept"
        )

    def _brushed(self) -> None:
        if isinstance(self._shown, ExposuresPage) and self.isVisible():
            self._shown.show_brush()

    def _star_chosen(self) -> None:
        if isinstance(self._shown, StarsPage) and self.isVisible():
            self._shown.show_chosen()

    def show_current(self, path: str) -> None:
        """Mark the current exposure, or show what belongs to it."""
        if self._shown is not None:
            self._shown.show_current(path)
