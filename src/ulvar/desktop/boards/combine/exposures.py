"""Combine, page Exposures: a table that sorts and filters, lines over the night, a scatter of any two qualities."""

from __future__ import annotations

import math
from collections.abc import Callable, Container

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractItemView, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.boards.combine.quality_box import QualityBox
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.layers import Layer
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.sparks import draw_spark
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import LazyRows, Rows, clear, label, number, table
from ulvar.desktop.work.soon import Soon
from ulvar.night.stations import QualityRow, night_rules
from ulvar.stars import QUALITIES

_COLUMNS = ("fwhm_px", "ellipticity", "stars", "sky_adu", "transparency", "score")
_HEADS = {"fwhm_px": "FWHM\npx", "ellipticity": "Ellip-\nticity", "stars": "Stars\n", "sky_adu": "Sky\nADU",
          "transparency": "Transp.\n%", "score": "Score\n%"}  # fmt: skip
_SPARKS = ("fwhm_px", "transparency", "ellipticity", "sky_adu")
_SHORT = {"transparency": "Transp.", "ellipticity": "Ellipt.", "sky_adu": "Sky"}
_FILTERS = {"all": "All", "kept": "Kept", "ruled": "Ruled out", "left": "Left out", "finding": "With a finding"}


class Sparks(QWidget):
    """Four qualities over the night, each with its range; a click sorts the table by it."""

    chosen = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._values: dict[str, np.ndarray] = {}
        self._dots = Layer()
        self.current = -1
        self.setFixedHeight(54)
        self.setToolTip("Over the night, in the order of time; a click sorts by it")

    def show_rows(self, rows: list[QualityRow]) -> None:
        """Show the qualities of exposures in the order of time."""
        self._values = {
            key: np.array([math.nan if (v := row.get(key)) is None else v * QUALITIES[key].factor for row in rows])
            for key in _SPARKS
        }
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw name, range and dots of each."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for box in self._boxes():
            painter.fillRect(box, self.theme.color("plot"))
        shown = (self.theme.name, *(v.tobytes() for v in self._values.values()))
        self._dots.paint(painter, self, shown, self._draw_dots)
        for box, (key, values) in zip(self._boxes(), self._values.items()):
            quality = QUALITIES[key]
            good = values[np.isfinite(values)]
            painter.setFont(font("unit"))
            painter.setPen(self.theme.color("soft"))
            words = _SHORT.get(key, quality.title)
            if good.size:
                places = quality.decimals if quality.decimals < 2 else 1 if good.max() > 1 else 2
                unit = f" {quality.unit}" if quality.unit else ""
                span = f"  {good.min():.{places}f}–{good.max():.{places}f}"
                # A number that is cut is a wrong number: the unit gives way first, then the range.
                room = box.width() - painter.fontMetrics().horizontalAdvance(words)
                fits = [t for t in (span + unit, span) if painter.fontMetrics().horizontalAdvance(t) <= room]
                words += fits[0] if fits else ""
            painter.drawText(QRectF(box.left(), 0, box.width(), 16), Qt.AlignmentFlag.AlignVCenter, words)
            if 0 <= self.current < len(values):
                x = box.left() + 4 + (box.width() - 8) * self.current / max(1, len(values) - 1)
                painter.fillRect(QRectF(x - 0.6, box.top(), 1.2, box.height()), self.theme.color("cur"))

    def _boxes(self) -> list[QRectF]:
        width = self.width() / len(_SPARKS)
        return [QRectF(i * width, 18, width - 8, 34) for i in range(len(self._values))]

    def _draw_dots(self, painter: QPainter) -> None:
        for box, values in zip(self._boxes(), self._values.values()):
            draw_spark(painter, self.theme, box, values, "soft")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Sort by what was clicked."""
        self.chosen.emit(_SPARKS[min(len(_SPARKS) - 1, int(event.position().x() / (self.width() / len(_SPARKS))))])


class ExposuresPage(QWidget):
    """Table, lines and scatter: one selection with picture and night line."""

    _axes = ("fwhm_px", "transparency")

    def __init__(
        self,
        parent: QWidget,
        model: Model,
        theme: Theme,
        show_file: Callable[[str, str], None],
        order: tuple[str, bool],
    ) -> None:
        super().__init__(parent)
        self._model, self.theme, self._show_file = model, theme, show_file
        self.order = order
        self._scrolling = Soon(self, self._scroll)
        self._rows_of: dict[str, QualityRow] = {}
        self._members: list[str] = []
        self._quiet = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addLayout(self._controls())
        self.sparks = Sparks(theme)
        self.sparks.chosen.connect(lambda key: self.sort_by(key))
        column.addWidget(self.sparks)
        self.rows = Rows(["Exposure\n", *(_HEADS[c] for c in _COLUMNS)])
        self.rows.theme = theme
        self.view = table(self.rows, "Exposures with their qualities", on_row=self._row_chosen)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.view.setToolTip("Click a heading to sort; select several rows to leave them out together (X)")
        self.view.horizontalHeader().setSectionsClickable(True)
        self.view.horizontalHeader().sectionClicked.connect(self._heading_clicked)
        self.view.selectionModel().selectionChanged.connect(lambda *_: self._selected())
        column.addWidget(self.view, 3)
        column.addLayout(self._scatter_head())
        self.plot = Plot(theme, on_pick=model.set_current, on_brush=model.set_brush)
        self.plot.setMinimumHeight(150)
        self.plot.setToolTip("Click a point for its exposure; drag a rectangle to select several")
        column.addWidget(self.plot, 2)

    def refresh(self) -> None:
        """Show qualities, products and selection as they are now."""
        self._rows_of = self._model.looking.quality()
        scores = self._model.scores()
        self._members = [f.path for f in self._model.lights() if f.path in scores]
        self.sparks.show_rows([self._rows_of[p] for p in self._members])
        self._offer_products()
        self._offer_axes()
        self._fill()
        self._fill_plot()
        self.show_brush()

    def _controls(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.filter_box = Choice()
        for key, text in _FILTERS.items():
            self.filter_box.addItem(text, key)
        self.filter_box.setToolTip("Which exposures the table lists")
        self.filter_box.setAccessibleName("Which exposures")
        self.filter_box.activated.connect(lambda _: self._fill())
        self.search = QLineEdit()
        self.search.setPlaceholderText("name contains…")
        self.search.setMinimumWidth(56)
        self.search.setMaximumWidth(120)
        self.search.setAccessibleName("Name contains")
        self.search.setToolTip("Only exposures whose name contains this")
        self.search.textChanged.connect(lambda _: self._fill())
        self.listed = label("", "unit")
        row.addWidget(self.filter_box)
        row.addWidget(self.search)
        row.addWidget(self.listed)
        row.addStretch(1)
        self._products = QHBoxLayout()
        self._products.setSpacing(6)
        row.addLayout(self._products)
        return row

    def _offer_products(self) -> None:
        """A button for each picture that was made of the exposures."""
        clear(self._products)
        for kind, words in (("deep", "Deep view"), ("stack", "Stack")):
            product = self._model.looking.deep_view() if kind == "deep" else self._model.of_series("stack")
            if product is None:
                continue
            title = f"{words} of {product.values['count']}"
            shown = QPushButton(title)
            shown.setToolTip("Show it in the place of the exposure (Y)")
            if kind == "stack":
                shown.setToolTip(
                    f"SNR gain × {product.values['snr_gain']:.1f}; alignment residual {product.values['residual_px']:.3f} px"
                )
            shown.clicked.connect(lambda _=False, p=product.output, t=title: self._show_file(p, t))
            self._products.addWidget(shown)

    def _state(self, path: str) -> str:
        if path in self._model.left_out():
            return "left"
        return "ruled" if path in self._model.looking.stack_plan()[1] else "kept"

    def sort_by(self, key: str, descending: bool | None = None) -> None:
        """Sort the table by a quality; again, the other way round."""
        if descending is None:
            better = QUALITIES[key].better if key in QUALITIES else -1
            descending = not self.order[1] if key == self.order[0] else better < 0
        self.order = (key, descending)
        self._fill()

    def _heading_clicked(self, section: int) -> None:
        self.sort_by(("name", *_COLUMNS)[section])

    def _listed_paths(self) -> list[str]:
        wanted, text = self.filter_box.currentData(), self.search.text().strip().lower()
        marked = self._model.jobs.files_with_findings()
        paths = []
        for path in self._members:
            facts = self._model.facts(path)
            if text and (facts is None or text not in facts.stem.lower()):
                continue
            if wanted == "finding" and path not in marked:
                continue
            if wanted in ("kept", "ruled", "left") and self._state(path) != wanted:
                continue
            paths.append(path)
        key, descending = self.order
        if key == "name":
            return paths[::-1] if descending else paths
        # What is unknown stands last, whichever way the rest goes.
        known = [p for p in paths if self._rows_of[p].get(key) is not None]
        known.sort(key=lambda p: self._rows_of[p][key] or 0.0, reverse=descending)
        return known + [p for p in paths if self._rows_of[p].get(key) is None]

    def _fill(self) -> None:
        self._quiet = True
        paths = self._listed_paths()
        rules = night_rules(self._model.settings())
        marks, dim = {}, set()
        out, ruled = self._model.left_out(), self._model.looking.stack_plan()[1]
        for i, path in enumerate(paths):
            row = self._rows_of[path]
            if path in out or path in ruled:
                dim.add(i)
            for rule in rules:
                if rule.quality in _COLUMNS and rule.takes(row):
                    marks[i, _COLUMNS.index(rule.quality) + 1] = "block"
        # Only rows in sight are put into words.
        rows = LazyRows(lambda i: self._cells(paths[i], out, ruled), len(paths))
        self.listed.setText("" if len(paths) == len(self._members) else f"{len(paths)} of {len(self._members)}")
        arrow = " ▾" if self.order[1] else " ▴"
        heads = []
        for key, head in zip(("name", *_COLUMNS), ("Exposure\n", *(_HEADS[c] for c in _COLUMNS))):
            first, _, second = head.partition("\n")
            heads.append(f"{first}\n{second}{arrow}" if key == self.order[0] else head)
        self.rows.fill(rows, paths, marks, dim, heads)
        self._quiet = False
        self.show_current(self._model.current)

    def _cells(self, path: str, out: Container[str], ruled: Container[str]) -> list[str]:
        facts, row = self._model.facts(path), self._rows_of[path]
        mark = "∅ " if path in out else "– " if path in ruled else ""
        cells = [f"{mark}{facts.stem if facts else path}"]
        for key in _COLUMNS:
            q, value = QUALITIES[key], row.get(key)
            cells.append(number(None if value is None else value * q.factor, q.decimals))
        return cells

    def _row_chosen(self, path: str) -> None:
        if not self._quiet:
            self._model.set_current(path)

    def _selected(self) -> None:
        if self._quiet:
            return
        chosen = [self.rows.key(index.row()) for index in self.view.selectionModel().selectedRows()]
        self._quiet = True
        self._model.set_brush(chosen if len(chosen) > 1 else ())
        self._quiet = False

    def _scatter_head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(label("Scatter", "section"))
        self.axis_boxes = []
        for side in (1, 0):
            box = QualityBox()
            box.setAccessibleName("Quality along " + ("the vertical axis" if side else "the horizontal axis"))
            box.setToolTip("What the axis shows")
            box.activated.connect(lambda _: self._axes_chosen())
            self.axis_boxes.append(box)
            row.addWidget(box)
            if side:
                row.addWidget(label("against"))
        row.addStretch(1)
        return row

    def _offer_axes(self) -> None:
        """List the qualities that are known of any exposure."""
        for box, chosen in zip(self.axis_boxes, self._axes[::-1]):
            box.offer(self._rows_of.values(), chosen)

    def _axes_chosen(self) -> None:
        type(self)._axes = (self.axis_boxes[1].currentData(), self.axis_boxes[0].currentData())
        self._fill_plot()

    def _fill_plot(self) -> None:
        x, y = (QUALITIES[box.currentData()] for box in (self.axis_boxes[1], self.axis_boxes[0]))

        def values(q) -> np.ndarray:  # type: ignore[no-untyped-def]
            found = (self._rows_of[p].get(q.key) for p in self._members)
            return np.array([math.nan if v is None else q.factor * v for v in found])

        kinds = [{"left": "left_out", "kept": "kept"}.get(self._state(p), "other") for p in self._members]
        self.plot.x_label, self.plot.y_label = f"{x.title} {x.unit}".strip(), f"{y.title} {y.unit}".strip()
        self.plot.series = [Points(values(x), values(y), kinds=kinds, keys=self._members)]
        self.plot.update()

    def show_current(self, path: str) -> None:
        """Mark the current exposure in table, lines and scatter."""
        row = self.rows.row_of(path)
        if row >= 0 and self.view.currentIndex().row() != row:
            self._quiet = True
            flag = QItemSelectionModel.SelectionFlag
            keep = bool(self._model.brushed)
            self.view.selectionModel().setCurrentIndex(
                self.rows.index(row, 0), flag.NoUpdate if keep else flag.ClearAndSelect | flag.Rows
            )
            self._scroll()
            # Once more when the page has its final height.
            self._scrolling.ask()
            self._quiet = False
        self.sparks.current = self._members.index(path) if path in self._members else -1
        self.sparks.update()
        if hasattr(self, "plot"):
            self.plot.current = path
            self.plot.update()

    def _scroll(self) -> None:
        self.view.scrollTo(self.view.currentIndex())

    def show_brush(self) -> None:
        """Mark the exposures that are selected together."""
        self.plot.selected = set(self._model.brushed)
        self.plot.update()
        if self._quiet:
            return
        self._quiet = True
        selection = self.view.selectionModel()
        flag = QItemSelectionModel.SelectionFlag
        if self._model.brushed:
            selection.clearSelection()
            for path in self._model.brushed:
                row = self.rows.row_of(path)
                if row >= 0:
                    selection.select(self.rows.index(row, 0), flag.Select | flag.Rows)
        self._quiet = False
