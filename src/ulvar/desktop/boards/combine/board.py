"""Combine: which exposures deserve to be in, and how well do they line up?"""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QPushButton, QScrollArea, QSizePolicy, QStackedWidget, QWidget

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.combine.alignment import AlignmentPage
from ulvar.desktop.boards.combine.exposures import ExposuresPage
from ulvar.desktop.boards.combine.field import FieldPage
from ulvar.desktop.boards.combine.result import ResultPage
from ulvar.desktop.boards.combine.rules import RulesPage
from ulvar.desktop.boards.combine.stars import StarsPage
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.work.soon import Soon

_PAGES = (
    ("exposures", "Exposures", "Every exposure with its qualities, and a scatter of any two"),
    ("rules", "Rules and score", "What holds exposures out of the stack, what the score weighs, and what that makes of the stack"),
    ("stars", "Stars", "The stars of the exposure on screen, and the limits of finding them"),
    ("field", "Field", "Width and shape of stars over the field: tilt, curvature, coma"),
    ("alignment", "Alignment", "How the exposure on screen lies on the reference, and what is left over"),
    ("result", "Result", "What the stack is like, and what its pixels are made of"),
)  # fmt: skip


# The next page is built when nothing was turned to or built for this long.
_BEFOREHAND_MS = 250

Page = ExposuresPage | RulesPage | StarsPage | FieldPage | AlignmentPage | ResultPage


class CombineBoard(Board):
    """Pages about the same question."""

    width_hint = 520

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.page = "exposures"
        # Pages that were turned to since anything changed: turning back to one builds nothing.
        self._built: dict[str, Page] = {}
        self._aged: set[str] = set()
        self._leaves: QStackedWidget | None = None
        self._placed = False
        self._unplaced: tuple[str, Page, QWidget] | None = None
        self._turning = False
        self._sorted = ("score", False)
        super().__init__(*arguments)
        self._showing = Soon(self, self._show_in_turns)
        self._catching_up = Soon(self, self._catch_up_and_mark)
        self._beforehand = QTimer(self)
        self._beforehand.setSingleShot(True)
        self._beforehand.setInterval(_BEFOREHAND_MS)
        self._beforehand.timeout.connect(self._build_beforehand)
        self.model.brush_changed.connect(self._brushed)
        self.model.looking.star_chosen.connect(self._star_chosen)
        self.model.stacks.pixel_chosen.connect(self._pixel_chosen)

    def fill(self) -> None:
        """Show the page that is turned to, or what is to be done first."""
        if self._placed:
            # The pages went with the body that was cleared.
            self.close_page()
        self.title.setText("Scores")
        if not self.model.scores():
            self._fill_empty()
            self._beforehand.start()
            return
        self._recount()
        self.page_buttons = self.add_pages(_PAGES, self.page, self.turn_to)
        self._placed = True
        self.body.addWidget(self._stack(), 1)
        self._stack().show()
        if self._turning:
            self._open()
            self._catch_up()
        else:
            # With a job that ended or a station that is gone to, much else is shown: a click can come between.
            self._showing.ask()

    def _show_in_turns(self) -> None:
        if self._placed:
            self._open()
            self._catching_up.ask()

    def _catch_up_and_mark(self) -> None:
        self._catch_up()
        self._current()

    def _fill_empty(self) -> None:
        self.count.setText("")
        n = len(self.model.members() - set(self.model.left_out()))
        name = self.model.series_name()
        self.say_empty(f"No exposure of {name} is scored yet." if n else "There are no lights to combine.")
        if self.model.stacks.running is not None:
            # It is made without scores, and is to be found before there are any.
            self.show_running = QPushButton("Running stack")
            self.show_running.setToolTip("Show the stack that grew while exposures arrived")
            self.show_running.clicked.connect(self._see_running)
            self.body.addWidget(self.show_running, 0, Qt.AlignmentFlag.AlignHCenter)

    def _see_running(self) -> None:
        running = self.model.stacks.running
        if running is not None:
            self.show_file(*running)

    def _stack(self) -> QStackedWidget:
        """Return what holds the pages: out of sight as long as there is nothing to show on them."""
        if self._leaves is None:
            self._leaves = QStackedWidget(self)
            self._leaves.setVisible(self._placed)
        return self._leaves

    def _open(self) -> None:
        """Bring the page that is turned to in sight, built now if it is not there yet."""
        if self._unplaced is not None:
            self._place(*self._unplaced)
        if self.page not in self._built:
            self._place(self.page, *self._make(self.page))
        page = self._built[self.page]
        leaves = self._stack()
        for other in range(leaves.count()):
            # A stack is as wide as its widest page unless the pages out of sight are ignored.
            leaf = leaves.widget(other)
            assert leaf is not None
            here = leaf is page or leaf.isAncestorOf(page)
            policy = QSizePolicy.Policy.Preferred if here else QSizePolicy.Policy.Ignored
            leaf.setSizePolicy(policy, policy)
            if here:
                leaves.setCurrentWidget(leaf)
        self._beforehand.start()

    def _place(self, name: str, page: Page, holder: QWidget) -> None:
        self._unplaced = None
        self._built[name] = page
        # What it shows is filled in when it comes in sight.
        self._aged.add(name)
        if isinstance(holder, QScrollArea):
            holder.setWidget(page)
        holder.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
        self._stack().addWidget(holder)

    def _build_beforehand(self) -> None:
        """Build the next page that was not turned to yet, in two turns of the loop that a click can come between."""
        if not self.isVisible():
            return
        missing = [key for key, _, _ in _PAGES if key not in self._built]
        if self._unplaced is not None:
            self._place(*self._unplaced)
        elif missing:
            self._unplaced = (missing[0], *self._make(missing[0]))
        else:
            return
        self._beforehand.start()

    def _make(self, name: str) -> tuple[Page, QWidget]:
        """Return a page and what stands for it among the others, both where they will be: what is moved is styled anew."""
        if name not in ("rules", "result", "alignment"):
            page = self._page(name, self._stack())
            page.hide()
            return page, page
        holder = QScrollArea(self._stack())
        holder.hide()
        holder.setWidgetResizable(True)
        return self._page(name, holder.viewport()), holder

    def _page(self, name: str, parent: QWidget) -> Page:
        if name == "rules":
            return RulesPage(parent, self.model, self.theme)
        if name == "stars":
            return StarsPage(parent, self.model, self.theme)
        if name == "field":
            return FieldPage(parent, self.model, self.theme)
        if name == "alignment":
            return AlignmentPage(parent, self.model, self.theme, self.command)
        if name == "result":
            return ResultPage(parent, self.model, self.theme, self.show_file, self.command)
        return ExposuresPage(parent, self.model, self.theme, self.show_file, self._sorted)

    @property
    def shown(self):  # type: ignore[no-untyped-def]
        """The page in sight, or None."""
        return self._built.get(self.page) if self._placed else None

    def turn_to(self, page: str) -> None:
        """Show another page."""
        before = self.shown
        self.page = page
        if self._stale or not self._placed:
            self._stale = True
            self._turning = True
            self.rebuild()
            self._turning = False
            return
        if isinstance(before, StarsPage) and page != "stars":
            before.leave()
        for key, button in self.page_buttons.items():
            button.setChecked(key == page)
        self._open()
        self._catch_up()
        if isinstance(self.shown, ExposuresPage):
            self.shown.show_brush()
        self._current()

    def shut_down(self) -> None:
        """End what pages run, and wait for it."""
        self.close_page(wait=True)

    def close_page(self, *, wait: bool = False) -> None:
        """End what pages run in the background, and keep what they are to remember."""
        self._beforehand.stop()
        pages = list(self._built.values()) + ([self._unplaced[1]] if self._unplaced is not None else [])
        for page in pages:
            if isinstance(page, StarsPage):
                page.close_finder(wait=wait)
            if isinstance(page, ExposuresPage):
                self._sorted = page.order
        self._built.clear()
        self._aged.clear()
        self._unplaced = None
        if self._leaves is not None and not self._placed:
            self._leaves.deleteLater()
        self._leaves, self._placed = None, False

    def refresh(self) -> bool:
        """Let the page in sight follow, its controls under the user's hand; the others when they are turned to."""
        if not self._age():
            return False
        self._catch_up()
        return True

    def _age(self) -> bool:
        """Note that the pages say what was; returns whether there are any that can be brought up to date."""
        if not self._placed or not self.model.scores():
            return False
        self._aged = set(self._built)
        self._recount()
        return True

    def come_in_sight(self) -> None:
        """Come in sight with the page as it was, and bring it up to date in the loop's next turn."""
        if self._stale and self._age():
            self._stale = False
            self._catching_up.ask()
        else:
            self.rebuild()

    def _catch_up(self) -> None:
        if self._placed and self.page in self._aged:
            self._aged.discard(self.page)
            self._built[self.page].refresh()

    def set_theme(self, theme: Theme) -> None:
        """Take another theme; pages are built anew in its colours."""
        self.close_page()
        super().set_theme(theme)

    def _recount(self) -> None:
        # The words and numbers of the night line's counts.
        kept, ruled, gone = self.model.looking.counts()
        self.count.setText(f"{kept} in the stack, {ruled} ruled out, {gone} left out")

    def _brushed(self) -> None:
        if isinstance(self.shown, ExposuresPage) and self.isVisible():
            self.shown.show_brush()

    def _star_chosen(self) -> None:
        if isinstance(self.shown, StarsPage) and self.isVisible():
            self.shown.show_chosen()

    def _pixel_chosen(self) -> None:
        if self.isVisible() and self.page != "result":
            self.turn_to("result")

    def show_current(self, path: str) -> None:
        """Mark the current exposure, or show what belongs to it."""
        if self.shown is not None:
            self.shown.show_current(path)
