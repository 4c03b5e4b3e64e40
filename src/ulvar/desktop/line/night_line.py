"""The night line: its series, and one dot an exposure on one time axis, at the bottom of every station."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ulvar.desktop.line.gutter import Gutter, Legend
from ulvar.desktop.line.line import Line
from ulvar.desktop.line.series_bar import SeriesBar
from ulvar.desktop.line.state import LineState
from ulvar.desktop.models.model import Model
from ulvar.desktop.models.numbers import METRICS
from ulvar.desktop.parts.inputs import Choice
from ulvar.desktop.parts.theme import Theme
from ulvar.desktop.work.soon import Soon


class NightLine(QWidget):
    """Gutter with metric and counts, and the line."""

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(164)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 0, 16, 0)
        layout.setSpacing(0)
        column = QVBoxLayout()
        column.setContentsMargins(0, 10, 0, 4)
        column.setSpacing(4)
        self.metric_box = Choice()
        self.metric_box.setFixedWidth(176)
        self.metric_box.setToolTip("What the height of the dots is")
        self.metric_box.setAccessibleName("Metric of the night line")
        self.metric_box.activated.connect(self._chosen)
        column.addWidget(self.metric_box)
        state = LineState(model)
        self.line = Line(model, theme, state)
        self.legend = Legend(model, theme, state)
        column.addWidget(self.legend, 1)
        layout.addLayout(column)
        self.gutter = Gutter(state, theme)
        right = QVBoxLayout()
        right.setSpacing(0)
        self.series = SeriesBar(model)
        right.addWidget(self.series)
        plot = QHBoxLayout()
        plot.setSpacing(0)
        plot.addWidget(self.gutter)
        plot.addWidget(self.line, 1)
        right.addLayout(plot, 1)
        layout.addSpacing(12)
        layout.addLayout(right, 1)
        # The picture and the board come first: the line follows them.
        self._soon = Soon(self, self._refresh)
        for signal in (
            model.exposures_changed,
            model.series_changed,
            model.station_changed,
            model.results_changed,
            model.findings_changed,
            model.current_changed,
            model.curves.changed,
            model.metric_changed,
        ):
            signal.connect(self._soon.ask)
        self._refresh()

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.line.theme = self.legend.theme = self.gutter.theme = theme
        self.update()

    def _chosen(self, index: int) -> None:
        self._model.numbers.set_metric(self.metric_box.itemData(index))

    def _refresh(self) -> None:
        known = [m for m in METRICS if self._model.numbers.knows_metric(m)] or [self._model.numbers.metric]
        if [self.metric_box.itemData(i) for i in range(self.metric_box.count())] != known:
            self.metric_box.clear()
            for name in known:
                self.metric_box.addItem(METRICS[name][0], name)
        self.metric_box.setCurrentIndex(max(0, self.metric_box.findData(self._model.numbers.metric)))
        self.series.refresh()
        self.legend.update()
        self.gutter.update()
        self.line.update()
