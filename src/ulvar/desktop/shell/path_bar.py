"""The path: seven stations as beads on one line, the night's name, the running job, the finder."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.theme import Theme, font
from ulvar.night import STATIONS

_STATE_WORDS = {
    "empty": "nothing done yet", "part": "partly done", "done": "done", "stale": "something before it changed: run again",
    "attention": "needs attention", "running": "running",
}  # fmt: skip


class Stations(QWidget):
    """The beads; a click or a key 1-7 goes to a station."""

    chosen = Signal(str)

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.setMouseTracking(True)
        self.setAccessibleName("Stations")
        model.states_changed.connect(self.update)
        model.station_changed.connect(lambda _: self.update())
        model.jobs.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """Room for seven stations."""
        return QSize(104 * 7, 56)

    def minimumSizeHint(self) -> QSize:
        """Room for seven names at the least."""
        return QSize(84 * 7, 56)

    def _step(self) -> float:
        return min(104.0, self.width() / 7)

    def _x(self, index: int) -> float:
        return self._step() * (index + 0.5)

    def station_at(self, x: float) -> str | None:
        """Return the station under a horizontal position."""
        index = int(x // self._step())
        return STATIONS[index] if 0 <= index < 7 else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Go to the station under the cursor."""
        station = self.station_at(event.position().x())
        if station:
            self.chosen.emit(station)

    def event(self, event: QEvent) -> bool:
        """Say a bead's state in words."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            station = self.station_at(event.pos().x())
            if station:
                number = STATIONS.index(station) + 1
                state = _STATE_WORDS[self._model.jobs.state(station)]
                done, every = self._model.jobs.series_done(station)
                of = f" for {self._model.series_name()}; {done} of {every} series done" if every > 1 else ""
                QToolTip.showText(event.globalPos(), f"{station.title()}: {state}{of}. Key {number}", self)
            return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw line, beads and names."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        states = [self._model.jobs.state(s) for s in STATIONS]
        for i in range(6):
            both = states[i] == "done" and states[i + 1] == "done"
            painter.setPen(QPen(self.theme.color("soft" if both else "edge"), 2 if both else 1))
            painter.drawLine(QPointF(self._x(i) + 13, 20), QPointF(self._x(i + 1) - 13, 20))
        for i, station in enumerate(STATIONS):
            here = station == self._model.station
            glyphs.draw_bead(painter, self.theme, self._x(i), 20, states[i])
            name_font, number_font = font("value" if here else "label"), font("unit")
            painter.setFont(name_font)
            name_width = painter.fontMetrics().horizontalAdvance(station.title())
            painter.setFont(number_font)
            number_width = painter.fontMetrics().horizontalAdvance(str(i + 1)) + 6
            left = self._x(i) - (name_width + number_width) / 2
            painter.setPen(self.theme.color("mute"))
            painter.drawText(QPointF(left, 45), str(i + 1))
            painter.setFont(name_font)
            painter.setPen(self.theme.color("text" if here else "soft"))
            painter.drawText(QPointF(left + number_width, 45), station.title())
            done, every = self._model.jobs.series_done(station)
            if every > 1 and done:
                # Beside the bead: how many series have come so far.
                painter.setFont(font("unit"))
                painter.setPen(self.theme.color("mute"))
                painter.drawText(QPointF(self._x(i) + 13, 14), f"{done}/{every}")
            if here:
                painter.fillRect(QRectF(left - 8, 53, name_width + number_width + 16, 3), self.theme.color("cur"))


class _Mark(QWidget):
    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setFixedSize(26, 40)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        glyphs.draw_mark(painter, self.theme, 13, 20)


def _time_left(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 100 else f"{seconds / 60:.0f} min"


class PathBar(QWidget):
    """The bar at the top of the window."""

    find_wanted = Signal()
    menu_wanted = Signal()

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(56)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 0, 16, 0)
        layout.setSpacing(8)
        self._mark = _Mark(theme)
        layout.addWidget(self._mark)
        names = QVBoxLayout()
        names.setSpacing(1)
        names.setContentsMargins(0, 9, 0, 8)
        self.title = QLabel("Ulvar")
        self.title.setProperty("kind", "section")
        self.subtitle = QLabel("no night open")
        self.subtitle.setProperty("kind", "unit")
        names.addWidget(self.title)
        names.addWidget(self.subtitle)
        layout.addLayout(names)
        self.menu_button = QToolButton()
        self.menu_button.setText("▾")
        self.menu_button.setToolTip("Menu: open a night, recent nights, themes, help")
        self.menu_button.setAccessibleName("Menu")
        self.menu_button.clicked.connect(self.menu_wanted)
        layout.addWidget(self.menu_button)
        layout.addStretch(1)
        self.stations = Stations(model, theme)
        layout.addWidget(self.stations, 20)
        layout.addStretch(1)
        self.job = QWidget()
        job = QHBoxLayout(self.job)
        job.setContentsMargins(0, 0, 0, 0)
        column = QVBoxLayout()
        column.setSpacing(3)
        column.setContentsMargins(0, 8, 0, 8)
        self.job_name = QLabel()
        self.job_name.setProperty("kind", "value")
        self.job_bar = QProgressBar()
        self.job_bar.setTextVisible(False)
        self.job_bar.setFixedSize(112, 4)
        self.job_left = QLabel()
        self.job_left.setProperty("kind", "unit")
        for widget in (self.job_name, self.job_bar, self.job_left):
            column.addWidget(widget)
        job.addLayout(column)
        self.stop = QToolButton()
        self.stop.setToolTip("Stop what runs (Esc); finished products are kept")
        self.stop.setAccessibleName("Stop")
        self.stop.setFixedSize(28, 28)
        self.stop.clicked.connect(model.jobs.stop)
        job.addWidget(self.stop)
        self.job.setVisible(False)
        layout.addWidget(self.job)
        self.find_button = QPushButton()
        self.find_button.setToolTip("Find a command, a star or an exposure (Ctrl+K)")
        self.find_button.clicked.connect(self.find_wanted)
        layout.addWidget(self.find_button)
        model.night_changed.connect(self._named)
        model.exposures_changed.connect(self._named)
        model.jobs.changed.connect(self._job)
        self.set_theme(theme)

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.theme = self.stations.theme = self._mark.theme = theme
        self.stop.setIcon(glyphs.icon(theme, "stop", "text"))
        self.find_button.setIcon(glyphs.icon(theme, "find", "soft"))
        self.job_bar.setStyleSheet(
            f"QProgressBar {{ background: {theme.line}; border: none; border-radius: 2px; }}"
            f"QProgressBar::chunk {{ background: {theme.accent}; border-radius: 2px; }}"
        )
        self._job()
        self.update()

    def _named(self) -> None:
        night = self._model.night
        self.title.setText(night.name if night else "Ulvar")
        date = night.date if night else ""
        self.subtitle.setText(f"Night of {date}" if date else "time unknown" if night else "no night open")

    def _job(self) -> None:
        job = self._model.jobs.job
        running = job is not None and not job.finished
        self.job.setVisible(running)
        self.find_button.setText("" if running else "Find    Ctrl+K")
        if job is None or not running:
            return
        self.job_name.setText(("Stopping" if job.token.stopping else job.text)[:22])
        self.job_bar.setRange(0, max(1, job.total))
        self.job_bar.setValue(job.done)
        left = job.seconds_left
        tail = "" if left is None else f", {_time_left(left)} left"
        self.job_left.setText(f"{job.done} of {job.total}{tail}" if job.total else "starting")
