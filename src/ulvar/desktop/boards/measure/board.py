"""Measure: stars by role, and how each behaves against the others."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt
from PySide6.QtGui import QKeySequence, QPainter, QPen, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QStyleOptionViewItem

from ulvar.desktop.boards.base import Board
from ulvar.desktop.boards.measure.aperture import AperturePage
from ulvar.desktop.boards.measure.comparisons import ComparisonsPage
from ulvar.desktop.boards.measure.field import FieldPage
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.sparks import draw_spark
from ulvar.desktop.parts.theme import font
from ulvar.desktop.parts.widgets import Cells, Rows, empty_state, hairline, label, number, table
from ulvar.engine import counted, percent, true_minus
from ulvar.photometry import ListedStar

PAGES = (
    ("measured", "Stars", "The stars with a role, and how each behaves against the others"),
    ("aperture", "Aperture", "How light and noise grow with the radius, and what that speaks for"),
    ("comparisons", "Candidates", "Every star of the field as a comparison star, and what speaks against it"),
    ("whole", "Field", "What all stars scatter by beside what noise lets expect, and which of them vary"),
)  # fmt: skip
_TITLES = {"measured": "Stars", "aperture": "Aperture", "comparisons": "Comparison stars", "whole": "The field"}
Page = AperturePage | ComparisonsPage | FieldPage
_MAKERS: dict[str, type[Page]] = {"aperture": AperturePage, "comparisons": ComparisonsPage, "whole": FieldPage}


class _Marks(Cells):
    """Draws role marks in the first column and sparklines in the last."""

    def __init__(self, rows: Rows, board: MeasureBoard) -> None:
        super().__init__(rows, board)
        self._board = board

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        """Draw a cell."""
        super().paint(painter, option, index)
        star = self._board.listed[index.row()]
        t = self._board.theme
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if index.column() == 0:
            suspect = star.name in self._board.suspects or star.name in self._board.model.settings().curve.leave_out
            pen = QPen(t.color("off" if suspect else glyphs.role_token(star.role)), 1.5)
            if suspect:
                pen.setStyle(Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.drawPath(glyphs.role_path(star.role, option.rect.left() + 12, option.rect.center().y() + 0.5, 6.5))
        elif index.column() == 4:
            values = self._board.curves.get(star.name)
            if values is not None:
                box = QRectF(option.rect).adjusted(0, 2, 0, -2)
                token = "check" if star.name in self._board.suspects else glyphs.role_token(star.role)
                low, high = 0.97, 1.03
                if star.role == "target":
                    # Its own range, which is written beside it: three per cent would cut an eclipse off.
                    low, high = float(np.nanmin(values)), float(np.nanmax(values))
                    painter.setFont(font("unit"))
                    painter.setPen(t.color("soft"))
                    painter.drawText(
                        box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, percent(high - low)
                    )
                    box.setRight(box.right() - 34)
                draw_spark(painter, t, box, values, token, (low, high))
        painter.restore()


class MeasureBoard(Board):
    """How bright, and against which stars?"""

    width_hint = 396
    shows_curve = True

    def __init__(self, *arguments) -> None:  # type: ignore[no-untyped-def]
        self.listed: list[ListedStar] = []
        self.suspects: set[str] = set()
        self.curves: dict[str, np.ndarray] = {}
        self.page = "measured"
        self.shown: Page | None = None
        super().__init__(*arguments)
        self.model.field.changed.connect(self._field_changed)

    def fill(self) -> None:
        """Build the page that is turned to: of the first one the list of stars and the plot of the chosen one."""
        self.shown = None
        night = self.model.night
        self.listed = night.stars() if night else []
        self.title.setText(_TITLES[self.page])
        series = self.model.curves.series()
        measured = len({row.file for row in series.rows}) if series else 0
        self.count.setText(counted(measured, "exposure") if measured else "")
        if not self.model.scores():
            self.say_empty("Score the exposures first: it carries stars from one exposure to the next.")
            return
        self.page_buttons = self.add_pages(PAGES, self.page, self.turn_to)
        if self.page not in ("comparisons", "whole"):
            self.model.field.mark("")
        if self.page != "measured":
            self.shown = _MAKERS[self.page](self, self.model, self.theme, self.command)
            self.shown.refresh()
            self.body.addWidget(self.shown, 1)
            return
        if not self.listed:
            self.body.addWidget(
                empty_state(
                    "Click the target in the picture, or give its place on the sky.",
                    "Stars by coordinates…",
                    lambda: self.command("star places"),
                )
            )
            return
        self._collect()
        standard = self._standard()
        band = "" if standard is None else "Catalogue" if standard["band"] == "mag" else str(standard["band"])
        self._rows = Rows(
            ["Star", f"{band}\nmag" if band else "Flux\nADU", "SNR", "Scatter\n× noise", "Over time\n±3 %"]
        )
        self._rows.theme = self.theme
        rows, marks = [], {}
        curve = self.model.curves.curve()
        ensemble = curve.curve.ensemble if curve else None
        for i, star in enumerate(self.listed):
            flux, error = self._median(star.name)
            ratio = math.nan
            if ensemble is not None and star.name in ensemble.names:
                k = ensemble.names.index(star.name)
                ratio = float(ensemble.scatter[k] / ensemble.expected[k])
            if star.name in self.suspects:
                marks[i, 3] = "check"
            told = standard["magnitudes"].get(star.name) if standard is not None else None
            shown = number(flux, 0) if standard is None else number(told[0] if told else math.nan, 3)
            rows.append((f"       {star.name}", shown, number(flux / error, 0), number(ratio, 2), ""))
        self._rows.fill(rows, [s.name for s in self.listed], marks)
        self._table = table(
            self._rows, "Stars with a role", on_row=self._picked,
            tip="A row shows how the star behaves against the others; Delete takes its role away",
        )  # fmt: skip
        gone = QShortcut(QKeySequence(Qt.Key.Key_Delete), self._table)
        gone.setContext(Qt.ShortcutContext.WidgetShortcut)
        gone.activated.connect(self._remove)
        self._table.setItemDelegate(_Marks(self._rows, self))
        self._table.horizontalHeader().setSectionResizeMode(4, self._table.horizontalHeader().ResizeMode.Fixed)
        self._table.setColumnWidth(4, 76)
        self.body.addWidget(self._table, 3)
        row = QHBoxLayout()
        propose = QPushButton("Propose comparison stars")
        propose.setToolTip("Stars of like brightness to the target, alone and away from the edge")
        propose.clicked.connect(lambda: self.command("propose"))
        row.addWidget(propose)
        row.addStretch(1)
        fast = QPushButton("Fast series…")
        fast.setToolTip("Films at video rates: SER, AVI, FITS cubes and folders; occultations are timed")
        fast.clicked.connect(lambda: self.command("fast"))
        row.addWidget(fast)
        self.body.addLayout(row)
        if ensemble is not None and curve is not None:
            self.body.addWidget(label(f"Target scatter {1000 * curve.rms:.1f} mmag about its fit", "value"))
        if standard is not None:
            self.body.addWidget(label(standard_words(standard), wrap=True))
        self.body.addWidget(hairline())
        self._plot = Plot(
            self.theme,
            x_label="hours after the first exposure",
            y_label="relative to the others",
            on_pick=self._open,
        )
        self._plot.setMinimumHeight(150)
        self._plot.empty = "Measure to see how a star behaves." if not measured else "Choose a star in the list."
        self.body.addWidget(self._plot, 2)
        chosen = next(iter(self.suspects), "") or self.listed[0].name
        if self.curves:
            self._table.selectRow(self._rows.row_of(chosen))

    def turn_to(self, page: str) -> None:
        """Show another page."""
        self.page = page
        self._stale = True
        if self.isVisible():
            self.rebuild()

    def refresh(self) -> bool:
        """Let the page in sight follow, where it can."""
        if self.shown is None or self.page == "measured" or not self.model.scores():
            return False
        if not isinstance(self.shown, _MAKERS[self.page]):
            return False
        self.shown.refresh()
        return True

    def _field_changed(self) -> None:
        if self.isVisible() and isinstance(self.shown, ComparisonsPage):
            self.shown.refresh()

    def _standard(self) -> dict[str, Any] | None:
        """What is known of the series in the catalogue's magnitudes."""
        series = self.model.chosen_series()
        product = self.model.products("standard").get(series.key) if series is not None else None
        return None if product is None else product.values

    def _collect(self) -> None:
        curve = self.model.curves.curve()
        self.curves, self.suspects = {}, set()
        if curve is None:
            return
        self.suspects = set(curve.curve.ensemble.suspects)
        for k, name in enumerate(curve.curve.ensemble.names):
            self.curves[name] = curve.curve.ensemble.curves[k]
        flux = curve.curve.relative_flux
        self.curves[curve.curve.name] = flux / np.nanpercentile(flux, 80)
        series = self.model.curves.series()
        for star in self.listed:
            if star.role == "check" and series is not None:
                own = {row.file: row.flux for row in series.star(star.name)}
                values = np.array([own.get(f, math.nan) for f in curve.curve.files]) / curve.curve.ensemble_flux
                self.curves[star.name] = values / np.nanmedian(values)

    def _median(self, name: str) -> tuple[float, float]:
        series = self.model.curves.series()
        rows = series.star(name) if series else []
        if not rows:
            return math.nan, math.nan
        return float(np.nanmedian([r.flux for r in rows])), float(np.nanmedian([r.flux_error for r in rows]))

    def _picked(self, name: str) -> None:
        curve = self.model.curves.curve()
        if curve is None or name not in self.curves:
            return
        hours = (curve.curve.jd_utc - curve.curve.jd_utc.min()) * 24
        names = {file: raw for raw, file in self.model.numbers.measured_names().items()}
        keys = [names.get(f, "") for f in curve.curve.files]
        star = next(s for s in self.listed if s.name == name)
        token = "check" if name in self.suspects else glyphs.role_token(star.role)
        self._plot.series = [Points(hours, self.curves[name], keys=keys, token=token, name=name)]
        self._plot.update()

    def _remove(self) -> None:
        """Take the chosen star's role away, undoably."""
        row = self._table.currentIndex().row()
        if 0 <= row < len(self.listed):
            name = self.listed[row].name
            self.model.matching.set_stars([s for s in self.listed if s.name != name], f"Remove {name}")

    def _open(self, path: str) -> None:
        self.model.set_current(path)

    def show_current(self, path: str) -> None:
        """Mark the current exposure in the plot."""
        if self.shown is not None:
            self.shown.show_current(path)
            return
        if hasattr(self, "_plot") and self.listed:
            self._plot.current = path
            self._plot.update()


def standard_words(values: Mapping[str, Any]) -> str:
    """Return how a series was brought to a catalogue's magnitudes, in words."""
    band = "its magnitudes" if values["band"] == "mag" else f"band {values['band']}"
    common = 1000 * values["common_error"]
    text = f"Zero points by {counted(len(values['used']), 'star')} of the catalogue, {band}, good to " + (
        f"{common:.0f} mmag" if common >= 1 else "under 1 mmag"
    )
    if values["colour_error"] is not None:
        text += f"; colour term {values['colour_term']:+.3f} ± {values['colour_error']:.3f}"
    if values["extinction"] is not None:
        text += f"; extinction {values['extinction']:.2f} ± {values['extinction_error']:.2f} mag"
    if values["limit"] is not None:
        text += f"; a star of SNR 5 has {values['limit']:.1f} mag"
    return true_minus(text + ".")
