"""A target over nights: a folder of nights is opened, a star chosen, its curves joined, folded, timed; it may turn."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from ulvar.desktop.dialogs.base import Panel
from ulvar.desktop.dialogs.exchange import ExchangePanel
from ulvar.desktop.dialogs.periods import PeriodView
from ulvar.desktop.dialogs.saving import ask_place
from ulvar.desktop.dialogs.target_light import TargetLight
from ulvar.desktop.dialogs.target_minima import TargetMinima
from ulvar.desktop.dialogs.target_rotation import TargetRotation
from ulvar.desktop.models.nights import TargetNights, Timed
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.parts.widgets import Rows, clear, empty_state, label, number, table
from ulvar.engine import counted, reason_words
from ulvar.flows import write_differences, write_minima
from ulvar.frames import TABLE_ENDINGS
from ulvar.lightcurves import Ephemeris, write_curve
from ulvar.night.nights import NightsRead

_PAGES = (
    ("light", "Light", "All points on one axis, and what is fitted to them"),
    ("period", "Period", "Periods that the points know, and the light folded with one"),
    ("minima", "Minima", "The minimum of each night, and how they follow each other"),
    ("rotation", "Rotation", "The rotation of a minor planet: a series with a level for each night"),
)
_TABLES = ";;".join(f"Table (*{ending})" for ending in TABLE_ENDINGS)


class TargetPanel(Panel):
    """One star over the nights of a folder.

    Parameters
    ----------
    parent : QWidget
    theme : Theme
    settings : QSettings
        Where the last folders and the observer's facts stay.
    folder : Path, optional
        A folder of nights to open at once.
    star : str
        The star to show first.
    """

    def __init__(
        self, parent: QWidget, theme: Theme, settings: QSettings, folder: Path | None = None, star: str = ""
    ) -> None:  # fmt: skip
        super().__init__(
            parent, "A target over nights",
            "Every night in a folder that measured the star, on one axis. Nights themselves are only read.",
        )  # fmt: skip
        self.theme, self._settings = theme, settings
        self.setMinimumSize(1040, 680)
        self.nights = TargetNights(self)
        self.nights.changed.connect(self._show)
        self.finished.connect(lambda _: self.nights.close())
        self.page = "light"
        self.shown: QWidget | None = None
        self._fill()
        if folder is not None:
            self.nights.open(folder, star)
        self._show()

    # ---- the window

    def _fill(self) -> None:
        row = QHBoxLayout()
        self.choose = QPushButton("Folder of nights…")
        self.choose.setToolTip("Nights that lie in it, or in folders in it, are read")
        self.choose.clicked.connect(self._choose)
        self.place = label("")
        self.star = Choice()
        self.star.setToolTip("Stars that nights measured as targets; one star may have other names in other nights")
        self.star.setAccessibleName("Star")
        self.star.setMinimumWidth(220)
        self.star.activated.connect(self._chosen)
        row.addWidget(self.choose)
        row.addWidget(self.place, 1)
        row.addWidget(label("Star"))
        row.addWidget(self.star)
        self.body.addLayout(row)
        middle = QHBoxLayout()
        middle.setSpacing(12)
        side = QVBoxLayout()
        self.rows = Rows(["Night and filter", "Points", "Level\nmag", "Scatter\nmmag"])
        self.rows.theme = self.theme
        self.list = table(
            self.rows, "Nights and filters of the star", tip="A double click, or Space, leaves a night away or takes it again"
        )  # fmt: skip
        self.list.doubleClicked.connect(lambda at: self._toggle(self.rows.key(at.row())))
        # Of the list alone: elsewhere Space presses what has the keyboard.
        space = QShortcut(QKeySequence(Qt.Key.Key_Space), self.list)
        space.setContext(Qt.ShortcutContext.WidgetShortcut)
        space.activated.connect(lambda: self._toggle(self.rows.key(self.list.currentIndex().row())))
        side.addWidget(self.list, 1)
        self.away = QPushButton("Leave it away")
        self.away.setToolTip("The chosen night takes no part here; the night itself stays as it is (Space)")
        self.away.clicked.connect(lambda: self._toggle(self.rows.key(self.list.currentIndex().row())))
        self.list.selectionModel().currentRowChanged.connect(lambda *_: self._offer())
        side.addWidget(self.away)
        holder = QWidget()
        holder.setLayout(side)
        side.setContentsMargins(0, 0, 0, 0)
        holder.setFixedWidth(350)
        middle.addWidget(holder)
        right = QVBoxLayout()
        pages = QHBoxLayout()
        pages.setSpacing(2)
        self.page_buttons: dict[str, QToolButton] = {}
        for key, words, tip in _PAGES:
            button = QToolButton()
            button.setText(words)
            button.setToolTip(tip)
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, k=key: self.turn_to(k))
            pages.addWidget(button)
            self.page_buttons[key] = button
        pages.addStretch(1)
        self.busy = label("")
        pages.addWidget(self.busy)
        right.addLayout(pages)
        self.right = QVBoxLayout()
        right.addLayout(self.right, 1)
        middle.addLayout(right, 1)
        self.body.addLayout(middle, 1)
        foot = QHBoxLayout()
        self.unread = label("", "blocks", wrap=True)
        foot.addWidget(self.unread, 1)
        self.save = QPushButton("Save the curve…")
        self.save.setToolTip("All points with their night and filter: CSV, VOTable, FITS or Parquet")
        self.save.clicked.connect(self._save_curve)
        self.exchange = QPushButton("For an association…")
        self.exchange.setToolTip(
            "In the text form that observers' associations take, after a check of what it requires"
        )
        self.exchange.clicked.connect(self._exchange)
        foot.addWidget(self.exchange)
        foot.addWidget(self.save)
        self.body.addLayout(foot)

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        self._show()

    def _choose(self) -> None:
        start = self._settings.value("nights", "") or str(Path.home())
        folder = QFileDialog.getExistingDirectory(self, "Open a folder of nights", str(start))
        if folder:
            self._settings.setValue("nights", folder)
            self.nights.open(Path(folder))

    def _chosen(self, place: int) -> None:
        if 0 <= place < len(self.nights.stars):
            self.nights.choose(self.nights.stars[place])

    def _toggle(self, name: str) -> None:
        if name:
            self.nights.take(name, name in self.nights.away)

    # ---- what is shown

    def _show(self) -> None:
        nights = self.nights
        self.busy.setText(f"{nights.busy}…" if nights.busy else "")
        self.place.setText(self._place_words())
        self.star.clear()
        for star in nights.stars:
            self.star.addItem(f"{star.name} ({counted(star.nights, 'night')})")
        if nights.star in nights.stars:
            self.star.setCurrentIndex(nights.stars.index(nights.star))
        self.star.setEnabled(len(nights.stars) > 1)
        self._show_rows()
        there = nights.curve() is not None
        for press in (self.save, self.exchange):
            press.setEnabled(there)
        self._offer()
        failed = nights.read.failed if isinstance(nights.read, NightsRead) else ()
        self.unread.setText(
            f"Not read: {Path(failed[0].file).name}: {failed[0].reason}" + (f", and {len(failed) - 1} more" if len(failed) > 1 else "")
            if failed
            else ""
        )  # fmt: skip
        for key, button in self.page_buttons.items():
            button.setChecked(key == self.page)
        self._show_page()

    def _offer(self) -> None:
        name = self.rows.key(self.list.currentIndex().row())
        self.away.setEnabled(bool(name))
        self.away.setText("Take it again" if name in self.nights.away else "Leave it away")

    def _place_words(self) -> str:
        folder, read = self.nights.folder, self.nights.read
        if folder is None:
            return "No folder is open."
        if not isinstance(read, NightsRead):
            return folder.name
        return f"{folder.name}: {counted(len({one.folder for one in read.series}), 'night')} with measurements"

    def _show_rows(self) -> None:
        nights = self.nights
        result = nights.curve()
        levels = {name: offset for name, offset, _ in result.fit.sessions} if result and result.fit else {}
        if result and levels:
            # The first is the level that the others are told beside.
            levels = dict.fromkeys(result.curve.sessions[:1], 0.0) | levels
        rows = []
        for one in nights.parts:
            name = one.part.name
            scatter, points = self._scatter(name)
            rows.append(
                (
                    name,
                    str(points or one.points),
                    number(levels.get(name), 3),
                    number(scatter, 1),
                )
            )
        gone = {k for k, one in enumerate(nights.parts) if one.part.name in nights.away}
        chosen = self.rows.key(self.list.currentIndex().row())
        self.rows.fill(rows, [one.part.name for one in nights.parts], dim=gone)
        if self.rows.row_of(chosen) >= 0:
            self.list.selectRow(self.rows.row_of(chosen))

    def _scatter(self, name: str) -> tuple[float | None, int]:
        """Return what a part's points leave from the fit [mmag], and how many count."""
        result = self.nights.curve()
        if result is None or result.fit is None:
            return None, 0
        sessions = result.curve.sessions
        good = np.flatnonzero(result.curve.good)
        mine = np.array([not sessions or sessions[k] == name for k in good], dtype=bool)
        if (sessions and name not in sessions) or not mine.any():
            return None, 0
        left = result.curve.magnitude[good] - result.fit.model_mag
        return 1000 * float(np.std(left[mine])), int(mine.sum())

    def _show_page(self) -> None:
        clear(self.right)
        self.shown = None
        nights = self.nights
        problem = nights.problem()
        if nights.curve() is None:
            words = problem or (
                f"{nights.busy}."
                if nights.busy
                else "Open a folder that holds the nights of a star."
                if nights.folder is None
                else "No night is taken."
            )
            self.right.addWidget(empty_state(words))
            return
        make: dict[str, Callable[[], QWidget]] = {
            "light": lambda: TargetLight(nights, self.theme),
            "period": lambda: PeriodView(self, nights, self.theme, lambda curve: [""] * len(curve)),
            "minima": lambda: TargetMinima(nights, self.theme, self._save_minima, self._save_differences),
            "rotation": lambda: TargetRotation(nights, self.theme),
        }
        self.shown = make[self.page]()
        self.right.addWidget(self.shown, 1)

    # ---- files

    def _ask_place(self, words: str, name: str, kinds: str) -> Path | None:
        return ask_place(self, self._settings, self.nights.folder or Path.home(), words, name, kinds)

    def _write(self, path: Path | None, write: Callable[[Path], object]) -> None:
        if path is None:
            return
        try:
            write(path)
        except OSError as error:
            self.tell(f"{path.name} could not be written: {reason_words(error)}.")
        except ValueError as error:
            self.tell(f"{error}.")
        else:
            self.tell("")
            self.busy.setText(f"Saved {path.name} in {path.parent}.")

    def _stem(self) -> str:
        return "-".join((self.nights.star.name if self.nights.star else "target").split())

    def _save_curve(self) -> None:
        result = self.nights.curve()
        if result is not None:
            path = self._ask_place("Save the curve", f"{self._stem()}-nights.csv", _TABLES)
            self._write(path, lambda path: write_curve(path, result.curve, replace=True))

    def _save_minima(self) -> None:
        timed = self.nights.minima
        if isinstance(timed, Timed):
            path = self._ask_place("Save the minima", f"{self._stem()}-minima.csv", _TABLES)
            self._write(path, partial(write_minima, minima=timed.minima, replace=True))

    def _save_differences(self) -> None:
        found = self.nights.ephemeris
        if isinstance(found, Ephemeris):
            path = self._ask_place(
                "Save the figure", f"{self._stem()}-differences.pdf", "PDF (*.pdf);;SVG (*.svg);;PNG (*.png)"
            )
            self._write(path, partial(write_differences, found=found, replace=True))

    def _exchange(self) -> None:
        result = self.nights.curve()
        if result is None:
            return
        bands = list(dict.fromkeys(one.filter for one in self.nights.taken()))
        if len(bands) > 1:
            self.tell("An association takes one filter at a time: leave the others away.")
            return
        self.drawing = ExchangePanel(
            self, result.curve, self._settings, self.nights.folder or Path.home(), bands[0] if bands else ""
        )
        self.drawing.setWindowModality(Qt.WindowModality.WindowModal)
        self.drawing.show()
