"""What all boards share."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.plan import plan_action
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import clear, empty_state, hairline, label


class Board(QWidget):
    """A board: a title with a count, and a body that `fill` builds.

    `show_file(path, title)` puts a product on the sky view; `command(name)` runs a window command.
    """

    width_hint = 344
    shows_curve = False

    def __init__(
        self,
        model: Model,
        theme: Theme,
        show_file: Callable[[str, str], None],
        command: Callable[[str], object],
    ) -> None:
        super().__init__()
        self.model, self.theme = model, theme
        self.show_file, self.command = show_file, command
        self.setObjectName("board")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._column = column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 8)
        column.setSpacing(8)
        head = QHBoxLayout()
        head.setSpacing(12)
        self.title = label("", "board")
        self.count = label("")
        self.hint = label("", "unit")
        head.addWidget(self.title)
        head.addWidget(self.count)
        head.addStretch(1)
        head.addWidget(self.hint)
        column.addLayout(head)
        self.body = QVBoxLayout()
        self.body.setSpacing(8)
        column.addLayout(self.body, 1)
        self._stale = True
        model.told_all.connect(self._rebuild_in_sight)
        for signal in (
            model.exposures_changed,
            model.results_changed,
            model.stars_changed,
            model.settings_changed,
            *([model.curves.changed] if self.shows_curve else []),
        ):
            signal.connect(self.mark_stale)
        model.current_changed.connect(self._current)
        self._read = False
        model.jobs.changed.connect(self._follow_reading)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """On a narrow board the hint gives way."""
        super().resizeEvent(event)
        self.hint.setVisible(self.width() > 560)

    def mark_stale(self) -> None:
        """Build anew, now if the board is in sight, else when it comes into sight.

        Of several signals that say the same, the last word of the model counts: the board is built once for all.
        """
        self._stale = True
        if self.isVisible() and not self.model.still_telling:
            self.rebuild()

    def _rebuild_in_sight(self) -> None:
        if self.isVisible():
            self.rebuild()

    def shut_down(self) -> None:
        """End what goes on in the background: the window closes."""

    def come_in_sight(self) -> None:
        """Bring the body up to date: the board's station is gone to."""
        self.rebuild()

    def rebuild(self) -> None:
        """Bring the body up to date if something changed: in place where the board can, else built anew."""
        if self._stale:
            self._stale = False
            if not self.refresh():
                clear(self.body)
                self.fill()
                # Laid out now, not after a first painting at the old places.
                self._column.activate()
        # Somebody may have stepped on while another board was in sight.
        self._current()

    @property
    def reading(self) -> bool:
        """Whether files are being read and nothing is known of them yet."""
        jobs = self.model.jobs
        return jobs.busy and jobs.station == "intake" and not self.model.exposures()

    def _follow_reading(self) -> None:
        """Say that files are being read as soon as they are."""
        if self.reading != self._read:
            self._read = self.reading
            self.mark_stale()

    def say_empty(self, sentence: str) -> None:
        """Fill the body with a sentence and the button of the way on, which is that of the action too."""
        if self.reading:
            sentence, words, command = "The files are being read. What they are stands here in a moment.", "", ""
        else:
            words, _, command = plan_action(self.model)
        self.body.addWidget(empty_state(sentence, words if command else "", lambda: self.command("go on")))

    def add_pages(
        self, pages: Sequence[tuple[str, str, str]], page: str, turn_to: Callable[[str], None]
    ) -> dict[str, QToolButton]:
        """Add the row of page buttons, each (key, words, tip), to the body; returns them by key."""
        row = QHBoxLayout()
        row.setSpacing(2)
        buttons = {}
        for key, text, tip in pages:
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.setCheckable(True)
            button.setChecked(key == page)
            button.clicked.connect(lambda _=False, k=key: turn_to(k))
            row.addWidget(button)
            buttons[key] = button
        row.addStretch(1)
        self.body.addLayout(row)
        self.body.addWidget(hairline())
        return buttons

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.theme = theme
        self._stale = True
        if self.isVisible():
            self.rebuild()

    def _current(self) -> None:
        if self.isVisible():
            self.show_current(self.model.current)

    def refresh(self) -> bool:
        """Bring the body up to date without building it anew; returns whether that was possible."""
        return False

    def fill(self) -> None:
        """Build the body."""
        raise NotImplementedError

    def show_current(self, path: str) -> None:
        """Mark the current exposure."""
