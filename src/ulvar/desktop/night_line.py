"""The night line: one dot an exposure on one time axis, at the bottom of every station."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolTip, QVBoxLayout, QWidget

from ulvar.desktop import glyphs
from ulvar.desktop.layers import Layer
from ulvar.desktop.model import METRICS, Model
from ulvar.desktop.night_gutter import Gutter, Legend
from ulvar.desktop.night_sky import LANE, NightSky
from ulvar.desktop.plots import nice_ticks
from ulvar.desktop.soon import Soon
from ulvar.desktop.theme import Theme, font
from ulvar.frames import ExposureFacts, Role

# Findings that stand on the line, and their words there.
_SPANS = {
    "cloud": "cloud", "focus": "focus", "jump": "jump", "trailing": "trailing", "flip": "flip", "trail": "trail",
    "dawn": "twilight", "light_leak": "light leak", "odd_level": "level", "odd_pattern": "pattern",
}  # fmt: skip
_AXIS = 22


class Line(QWidget):
    """The plot itself."""

    brushed = Signal(float, float)

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self._press: float | None = None
        self._drag: float | None = None
        self._sky = NightSky()
        self._dots_layer = Layer()
        self.setMinimumWidth(300)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Night line")
        model.brush_changed.connect(self.update)

    # ---- geometry

    def _plot(self) -> QRectF:
        return QRectF(0, 10, self.width() - 44, self.height() - 10 - _AXIS)

    def _span(self) -> tuple[float, float]:
        # Asked for each dot: looked up, not counted anew.
        early = self._model.station in ("intake", "masters")
        return self._model.cached(f"line span {early}", self._find_span)

    def _find_span(self) -> tuple[float, float]:
        times = [f.start_utc.timestamp() for f in self._model.exposures() if f.start_utc]
        if self._model.station not in ("intake", "masters"):
            lights = [f.start_utc.timestamp() for f in self._model.lights() if f.start_utc]
            times = lights or times
        if not times:
            return 0.0, 1.0
        low, high = min(times), max(times)
        if high - low > 3 * 86400:
            lights = [f.start_utc.timestamp() for f in self._model.lights() if f.start_utc]
            if lights:
                low, high = min(lights), max(lights)
        pad = max(600.0, 0.04 * (high - low))
        return low - pad, high + pad

    def _x(self, moment: float) -> float:
        low, high = self._span()
        plot = self._plot()
        return plot.left() + (moment - low) / (high - low) * plot.width()

    def _range(self) -> tuple[float, float]:
        return self._model.cached(f"line range {self._model.metric}", self._find_range)

    def _find_range(self) -> tuple[float, float]:
        values = list(self._model.metric_values(self._model.metric).values())
        if not values:
            return 0.0, 1.0
        low, high = float(np.min(values)), float(np.max(values))
        if high - low < 1e-9:
            low, high = low - 0.5, high + 0.5
        pad = 0.12 * (high - low)
        return low - pad, high + pad

    def _y(self, value: float) -> float:
        low, high = self._range()
        plot = self._plot()
        top = plot.top() + LANE
        return plot.bottom() - 12 - (value - low) / (high - low) * (plot.bottom() - 12 - top)

    def dots(self) -> list[tuple[str, float, float, str]]:
        """Return (path, x, y, kind) of every light with a time, and of calibration frames that have the number."""
        key = f"line dots {self._model.station} {self._model.metric} {self.width()} {self.height()}"
        return self._model.cached(key, self._place_dots)

    def _place_dots(self) -> list[tuple[str, float, float, str]]:
        values = self._model.metric_values(self._model.metric)
        out = self._model.left_out()
        marked = self._model.files_with_findings()
        main = self._model.working_filter()
        result = []
        lights = {f.path for f in self._model.lights()}
        for facts in self._model.exposures():
            if facts.start_utc is None or not (facts.path in lights or facts.path in values):
                continue
            value = values.get(facts.path)
            y = self._y(value) if value is not None else self._plot().bottom() - 12
            kind = "kept"
            if facts.path in out:
                kind = "left_out"
            elif value is None or (main and facts.path in lights and facts.filter != main):
                kind = "other"
            elif facts.path in marked:
                kind = "finding"
            result.append((facts.path, self._x(facts.start_utc.timestamp()), y, kind))
        return sorted(result, key=lambda dot: dot[1])

    # ---- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw twilight, grid, airmass, calibration bars, dots, spans, the current exposure."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, plot = self.theme, self._plot()
        painter.fillRect(plot, t.color("plot"))
        if not self._model.exposures():
            painter.setPen(t.color("mute"))
            painter.drawText(
                plot,
                Qt.AlignmentFlag.AlignCenter,
                "Exposures appear here, one dot each, in the order of time.",
            )
            return
        if not any(f.start_utc for f in self._model.exposures()):
            painter.setPen(t.color("mute"))
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, "The headers hold no times, so there is no time axis.")
            return
        self._paint_sky(painter, plot)
        self._paint_axes(painter, plot)
        self._paint_calibration(painter, plot)
        dots = self.dots()
        inside = ((x, y, kind) for _, x, y, kind in dots if plot.left() <= x <= plot.right())
        self._dots_layer.paint(painter, self, (t.name, dots), lambda p: glyphs.draw_dots(p, t, inside))
        self._paint_failed(painter, plot)
        self._paint_spans(painter, plot)
        self._paint_brush(painter, plot)
        self._paint_current(painter, plot)

    @property
    def moon_words(self) -> str:
        """What the Moon does, where its line is shown."""
        return self._sky.moon_words if self._model.station in ("combine", "plate", "measure", "curve") else ""

    def _paint_sky(self, painter: QPainter, plot: QRectF) -> None:
        """Twilight, Moon and airmass behind the dots."""
        facts = next(
            (f for f in self._model.lights() if f.site and f.ra_deg is not None and f.dec_deg is not None), None
        )
        if facts is None:
            return
        self._sky.follow(facts, *self._span())
        self._sky.paint_twilight(painter, self.theme, plot)
        if self._model.station in ("combine", "plate", "measure", "curve"):
            self._sky.paint_moon(painter, self.theme, plot)
            self._sky.paint_airmass(painter, self.theme, plot)

    def _paint_axes(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        painter.setFont(font("unit"))
        low, high = self._span()
        hours = (high - low) / 3600
        step = next((s for s in (0.25, 0.5, 1, 2, 3, 6, 12, 24, 48, 120) if hours / s <= 12), 240)
        start = datetime.fromtimestamp(low, UTC).replace(minute=0, second=0, microsecond=0)
        facts = self._model.facts(self._model.current)
        flag = self._x(facts.start_utc.timestamp()) if facts is not None and facts.start_utc else -1e9

        def hidden(x: float) -> bool:
            return abs(x - flag) < 56

        moment = start
        while moment.timestamp() <= high:
            x = self._x(moment.timestamp())
            if plot.left() + 16 < x < plot.right() - 100 and not hidden(x):
                painter.setPen(QPen(t.color("grid"), 1))
                painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
                painter.setPen(t.color("mute"))
                label = f"{moment:%m-%d}" if step >= 24 else f"{moment:%H:%M}"
                painter.drawText(QRectF(x - 30, plot.bottom() + 4, 60, 16), Qt.AlignmentFlag.AlignCenter, label)
            moment += timedelta(hours=step)
        painter.setPen(t.color("mute"))
        painter.drawText(QRectF(plot.right() - 84, plot.bottom() + 4, 34, 16), Qt.AlignmentFlag.AlignRight, "UTC")
        if not self._model.metric_values(self._model.metric):
            return
        for value in nice_ticks(*self._range(), 4):
            y = self._y(value)
            painter.setPen(QPen(t.color("grid"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def value_ticks(self) -> list[tuple[float, str]]:
        """Return (y, text) of the value axis, drawn in the gutter."""
        if not self._model.metric_values(self._model.metric):
            return []
        _, unit, decimals = METRICS[self._model.metric]
        ticks = nice_ticks(*self._range(), 4)
        gap = ticks[1] - ticks[0] if len(ticks) > 1 else 1.0
        places = max(decimals if gap < 1 else 0, max(0, -math.floor(math.log10(gap) + 1e-9)) if gap > 0 else 0)
        return [(self._y(v), f"{v:.{places}f} {unit}".replace("-", "−").strip()) for v in ticks]

    def _paint_calibration(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        painter.setFont(font("unit"))
        spans: dict[str, list[float]] = {}
        times = self._times()
        for facts in self._model.cached("line calibration", self._calibration_frames):
            x = self._x(times[facts.path])
            if plot.left() <= x <= plot.right():
                painter.fillRect(QRectF(x - 1, plot.bottom() - 7, 2.4, 6), t.color("soft", 0.75))
                spans.setdefault(facts.role.plural.lower(), []).append(x)
        right = -1e9
        for name, xs in sorted(spans.items(), key=lambda item: min(item[1])):
            middle = (min(xs) + max(xs)) / 2
            width = painter.fontMetrics().horizontalAdvance(name)
            left = max(middle - width / 2, right + 8, plot.left() + 2)
            if left + width < plot.right():
                painter.setPen(t.color("mute"))
                painter.drawText(QPointF(left, plot.bottom() - 11), name)
                right = left + width

    def _calibration_frames(self) -> list[ExposureFacts]:
        times = self._times()
        return [f for f in self._model.exposures() if f.role not in (Role.LIGHT, Role.UNKNOWN) and f.path in times]

    def _times(self) -> dict[str, float]:
        """When each exposure began, as far as that is known; asked for at each painting."""
        return self._model.cached(
            "line times",
            lambda: {f.path: f.start_utc.timestamp() for f in self._model.exposures() if f.start_utc},
        )

    def _paint_failed(self, painter: QPainter, plot: QRectF) -> None:
        if not self._model.failed():
            return
        # An unreadable file's time is not known; it stands beside its neighbour in the order of files.
        known = self._times()
        times = {f.path: known[f.path] for f in self._model.lights() if f.path in known}
        order = sorted(times)
        for failure in self._model.failed():
            before = [p for p in order if p < failure.file]
            after = [p for p in order if p > failure.file]
            near = times[before[-1]] if before else times[after[0]] if after else None
            if near is not None and after and before:
                near = (near + times[after[0]]) / 2
            if near is not None:
                glyphs.draw_dot(painter, self.theme, self._x(near), plot.bottom() - 12, "unreadable")

    def _paint_spans(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        times = self._times()
        painter.setFont(font("unit"))
        right = -1e9
        named = [f for f in self._model.findings() if f.code in _SPANS]
        for finding in sorted(named, key=lambda f: min((times.get(p, 1e18) for p in f.files), default=1e18)):
            xs = [self._x(times[p]) for p in finding.files if p in times]
            if not xs:
                continue
            a, b = min(xs) - 6, max(xs) + 6
            if finding.code == "flip":
                painter.setPen(QPen(t.color("mute"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(a + 3, plot.top()), QPointF(a + 3, plot.bottom()))
                # In the lane of names, where neither dots nor airmass run through it.
                if a + 7 > right:
                    painter.drawText(QPointF(a + 7, plot.top() + 12), "flip")
                    right = a + 7 + painter.fontMetrics().horizontalAdvance("flip")
                continue
            token = "note" if finding.code == "trail" else "check"
            word = _SPANS[finding.code]
            width = painter.fontMetrics().horizontalAdvance(word)
            left = max(a, right + 6)
            if left + width + 18 > plot.right():
                continue
            glyphs.draw_severity(painter, t, left + 6, plot.top() + 8, finding.severity.word, 5)
            painter.setPen(t.color("text"))
            painter.drawText(QPointF(left + 15, plot.top() + 12), word)
            painter.fillRect(QRectF(a, plot.top() + 15, max(b - a, 6), 2), t.color(token))
            right = left + width + 18

    def _paint_brush(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        if self._press is not None and self._drag is not None:
            a, b = sorted((self._press, self._drag))
        else:
            times = self._times()
            xs = [self._x(times[p]) for p in self._model.brushed if p in times]
            if len(xs) < 2:
                return
            a, b = min(xs) - 5, max(xs) + 5
        painter.fillRect(QRectF(a, plot.top(), b - a, plot.height()), t.color("cur", 0.16))
        painter.fillRect(QRectF(a - 2, plot.center().y() - 10, 4, 20), t.color("cur"))
        painter.fillRect(QRectF(b - 2, plot.center().y() - 10, 4, 20), t.color("cur"))
        if self._model.brushed and self._press is None:
            out = self._model.left_out()
            word = "puts back" if all(p in out for p in self._model.brushed) else "leaves out"
            painter.setFont(font("value"))
            painter.setPen(t.color("text"))
            text = f"X {word} {len(self._model.brushed)}"
            painter.drawText(QPointF(max(plot.left() + 2, min(a, plot.right() - 110)), plot.top() + 12), text)

    def _paint_current(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        facts = self._model.facts(self._model.current)
        if facts is None or facts.start_utc is None:
            return
        x = self._x(facts.start_utc.timestamp())
        if not plot.left() <= x <= plot.right():
            return
        painter.setPen(QPen(t.color("cur"), 1.4))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        dot = next((d for d in self.dots() if d[0] == facts.path), None)
        if dot is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("cur"), 2))
            painter.drawEllipse(QPointF(dot[1], dot[2]), 6, 6)
        box = QRectF(min(max(x - 33, 0), self.width() - 66), plot.bottom() + 2, 66, 18)
        painter.setFont(font("value"))
        if t.filled_action:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("accent"))
            painter.drawRoundedRect(box, 3, 3)
            painter.setPen(t.color("on_accent"))
        else:
            painter.setPen(QPen(t.color("cur"), 1))
            painter.setBrush(t.color("panel"))
            painter.drawRoundedRect(box, 3, 3)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{facts.start_utc:%H:%M:%S}")

    # ---- mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Start a click or a brush."""
        self._press = event.position().x()
        self._drag = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Draw the brush out."""
        if self._press is not None and abs(event.position().x() - self._press) > 4:
            self._drag = event.position().x()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Go to the nearest exposure, or select the span."""
        press, self._press = self._press, None
        if press is None:
            return
        if self._drag is not None:
            a, b = sorted((press, event.position().x()))
            self._drag = None
            self._model.set_brush(path for path, x, _, _ in self.dots() if a <= x <= b)
            return
        nearest = self.nearest(event.position().x(), event.position().y())
        self._model.set_brush(())
        if nearest:
            self._model.set_current(nearest)

    def nearest(self, x: float, y: float) -> str:
        """Return the exposure whose dot is nearest, within 24 px along the line."""
        dots = [(abs(dx - x) + 0.2 * abs(dy - y), path) for path, dx, dy, _ in self.dots() if abs(dx - x) < 24]
        return min(dots)[1] if dots else ""

    def event(self, event: QEvent) -> bool:
        """Name the exposure under the cursor."""
        if event.type() == QEvent.Type.ToolTip:
            path = self.nearest(event.pos().x(), event.pos().y())
            facts = self._model.facts(path) if path else None
            if facts is not None and facts.start_utc is not None:
                why = self._model.left_out().get(path)
                tail = f", left out: {why}" if why else ""
                QToolTip.showText(event.globalPos(), f"{facts.stem}, {facts.start_utc:%H:%M:%S} UTC{tail}", self)
            return True
        return super().event(event)


class NightLine(QWidget):
    """Gutter with metric and counts, and the line."""

    def __init__(self, model: Model, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(140)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 0, 16, 0)
        layout.setSpacing(0)
        column = QVBoxLayout()
        column.setContentsMargins(0, 10, 0, 4)
        column.setSpacing(4)
        self.metric_box = QComboBox()
        self.metric_box.setFixedWidth(176)
        self.metric_box.setToolTip("What the height of the dots is")
        self.metric_box.setAccessibleName("Metric of the night line")
        self.metric_box.activated.connect(self._chosen)
        column.addWidget(self.metric_box)
        self.line = Line(model, theme)
        self.legend = Legend(model, theme, self.line)
        column.addWidget(self.legend, 1)
        layout.addLayout(column)
        self.gutter = Gutter(self.line)
        layout.addWidget(self.gutter)
        layout.addWidget(self.line, 1)
        # The picture and the board come first: the line follows them.
        self._soon = Soon(self, self._refresh)
        for signal in (
            model.exposures_changed,
            model.station_changed,
            model.results_changed,
            model.findings_changed,
            model.current_changed,
            model.curve_changed,
            model.metric_changed,
        ):
            signal.connect(self._soon.ask)
        self._refresh()

    def set_theme(self, theme: Theme) -> None:
        """Take another theme."""
        self.line.theme = self.legend.theme = theme
        self.update()

    def _chosen(self, index: int) -> None:
        self._model.set_metric(self.metric_box.itemData(index))

    def _refresh(self) -> None:
        known = [m for m in METRICS if self._model.knows_metric(m)] or [self._model.metric]
        if [self.metric_box.itemData(i) for i in range(self.metric_box.count())] != known:
            self.metric_box.clear()
            for name in known:
                self.metric_box.addItem(METRICS[name][0], name)
        self.metric_box.setCurrentIndex(max(0, self.metric_box.findData(self._model.metric)))
        self.legend.update()
        self.gutter.update()
        self.line.update()
