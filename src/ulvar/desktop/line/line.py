"""The plot of the night line: twilight, axes, dots, spans, the brush and the current exposure."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QToolTip, QWidget

from ulvar.desktop.line.state import LineState
from ulvar.desktop.models.model import Model
from ulvar.desktop.parts import glyphs
from ulvar.desktop.parts.layers import Layer
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.ticks import nice_ticks
from ulvar.inspection import CODES, Severity
from ulvar.night import SERIES_STATIONS


class Line(QWidget):
    """The plot itself."""

    brushed = Signal(float, float)

    def __init__(self, model: Model, theme: Theme, state: LineState) -> None:
        super().__init__()
        self._model, self.state = model, state
        self.theme = theme
        self._press: float | None = None
        self._drag: float | None = None
        self._sky_layer, self._dots_layer = Layer(), Layer()
        self.setMinimumWidth(300)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Night line")
        model.brush_changed.connect(self.update)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Let everything fall anew."""
        self.state.width, self.state.height = self.width(), self.height()

    # ---- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw twilight, grid, airmass, calibration bars, dots, spans, the current exposure."""
        self.state.width, self.state.height = self.width(), self.height()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, plot = self.theme, self.state.plot()
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
        calibration = self._paint_calibration(painter, plot)
        dots = self.state.dots()
        inside = ((x, y, kind) for _, x, y, kind in dots if plot.left() <= x <= plot.right())
        self._dots_layer.paint(painter, self, (t.name, dots), lambda p: glyphs.draw_dots(p, t, inside))
        self._name_calibration(painter, plot, calibration)
        self._paint_failed(painter, plot)
        self._paint_spans(painter, plot)
        self._paint_brush(painter, plot)
        self._paint_current(painter, plot)

    def _paint_sky(self, painter: QPainter, plot: QRectF) -> None:
        """Twilight, Moon and airmass behind the dots."""
        members = self._model.members()
        placed = [f for f in self._model.lights() if f.site and f.ra_deg is not None and f.dec_deg is not None]
        facts = next((f for f in placed if f.path in members), placed[0] if placed else None)
        if facts is None:
            return
        sky, span, whole = self.state.sky, self.state.span(), self._model.station in SERIES_STATIONS
        sky.follow(facts, *span)

        def draw(layer: QPainter) -> None:
            sky.paint_twilight(layer, self.theme, plot)
            if whole:
                sky.paint_moon(layer, self.theme, plot)
                sky.paint_airmass(layer, self.theme, plot)

        key = (self.theme.name, plot.getRect(), span, facts.ra_deg, facts.dec_deg, facts.site, whole)
        self._sky_layer.paint(painter, self, key, draw)

    def _paint_axes(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        painter.setFont(font("unit"))
        low, high = self.state.span()
        hours = (high - low) / 3600
        step = next((s for s in (0.25, 0.5, 1, 2, 3, 6, 12, 24, 48, 120) if hours / s <= 12), 240)
        start = datetime.fromtimestamp(low, UTC).replace(minute=0, second=0, microsecond=0)
        facts = self._model.facts(self._model.current)
        flag = self.state.x(facts.start_utc.timestamp()) if facts is not None and facts.start_utc else -1e9

        def hidden(x: float) -> bool:
            return abs(x - flag) < 56

        moment = start
        while moment.timestamp() <= high:
            x = self.state.x(moment.timestamp())
            if plot.left() + 16 < x < plot.right() - 100 and not hidden(x):
                painter.setPen(QPen(t.color("grid"), 1))
                painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
                painter.setPen(t.color("mute"))
                label = f"{moment:%m-%d}" if step >= 24 else f"{moment:%H:%M}"
                painter.drawText(QRectF(x - 30, plot.bottom() + 4, 60, 16), Qt.AlignmentFlag.AlignCenter, label)
            moment += timedelta(hours=step)
        painter.setPen(t.color("mute"))
        painter.drawText(QRectF(plot.right() - 84, plot.bottom() + 4, 34, 16), Qt.AlignmentFlag.AlignRight, "UTC")
        if not self._model.numbers.metric_values(self._model.numbers.metric):
            return
        for value in nice_ticks(*self.state.range(), 4):
            y = self.state.y(value)
            painter.setPen(QPen(t.color("grid"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def _paint_calibration(self, painter: QPainter, plot: QRectF) -> dict[str, list[float]]:
        """Draw a bar for each calibration frame; returns where those of a kind are."""
        t = self.theme
        spans: dict[str, list[float]] = {}
        times = self.state.times()
        for facts in self._model.cached("line calibration", self.state.calibration_frames):
            x = self.state.x(times[facts.path])
            if plot.left() <= x <= plot.right():
                painter.fillRect(QRectF(x - 1, plot.bottom() - 7, 2.4, 6), t.color("soft", 0.75))
                spans.setdefault(facts.role.plural.lower(), []).append(x)
        return spans

    def _name_calibration(self, painter: QPainter, plot: QRectF, spans: Mapping[str, list[float]]) -> None:
        """Write the kinds over their bars, on a ground of their own where dots lie there too."""
        t = self.theme
        painter.setFont(font("unit"))
        right = -1e9
        for name, xs in sorted(spans.items(), key=lambda item: min(item[1])):
            middle = (min(xs) + max(xs)) / 2
            width = painter.fontMetrics().horizontalAdvance(name)
            left = max(middle - width / 2, right + 8, plot.left() + 2)
            if left + width < plot.right():
                painter.fillRect(QRectF(left - 2, plot.bottom() - 21, width + 4, 13), t.color("plot", 0.85))
                painter.setPen(t.color("mute"))
                painter.drawText(QPointF(left, plot.bottom() - 11), name)
                right = left + width

    def _paint_failed(self, painter: QPainter, plot: QRectF) -> None:
        if not self._model.failed():
            return
        # An unreadable file's time is not known; it stands beside its neighbour in the order of files.
        known = self.state.times()
        times = {f.path: known[f.path] for f in self._model.lights() if f.path in known}
        order = sorted(times)
        for failure in self._model.failed():
            before = [p for p in order if p < failure.file]
            after = [p for p in order if p > failure.file]
            near = times[before[-1]] if before else times[after[0]] if after else None
            if near is not None and after and before:
                near = (near + times[after[0]]) / 2
            if near is not None:
                glyphs.draw_dot(painter, self.theme, self.state.x(near), plot.bottom() - 12, "unreadable")

    def _paint_spans(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        times = self.state.times()
        painter.setFont(font("unit"))
        right = -1e9
        named = [f for f in self._model.jobs.findings() if f.code in CODES and CODES[f.code].line]
        for finding in sorted(named, key=lambda f: min((times.get(p, 1e18) for p in f.files), default=1e18)):
            runs = self.state.runs(finding.files)
            if not runs:
                continue
            a = runs[0][0] - 6
            if finding.code == "flip":
                painter.setPen(QPen(t.color("mute"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(a + 3, plot.top()), QPointF(a + 3, plot.bottom()))
                # In the lane of names, where neither dots nor airmass run through it.
                if a + 7 > right:
                    painter.drawText(QPointF(a + 7, plot.top() + 12), "flip")
                    right = a + 7 + painter.fontMetrics().horizontalAdvance("flip")
                continue
            token = finding.severity.word if finding.severity is Severity.NOTE else "check"
            word = CODES[finding.code].line
            width = painter.fontMetrics().horizontalAdvance(word)
            left = max(a, right + 6)
            if left + width + 18 > plot.right():
                continue
            glyphs.draw_severity(painter, t, left + 6, plot.top() + 8, finding.severity.word, 5)
            painter.setPen(t.color("text"))
            painter.drawText(QPointF(left + 15, plot.top() + 12), word)
            right = left + width + 18
            for first, last in runs:
                painter.fillRect(QRectF(first - 6, plot.top() + 15, max(last - first + 12, 6), 2), t.color(token))

    def _paint_brush(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        if self._press is not None and self._drag is not None:
            a, b = sorted((self._press, self._drag))
        else:
            times = self.state.times()
            xs = [self.state.x(times[p]) for p in self._model.brushed if p in times]
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
            # Over the names of findings, which it covers while the selection lasts.
            left = max(plot.left() + 2, min(a, plot.right() - 110))
            painter.fillRect(
                QRectF(left - 3, plot.top(), painter.fontMetrics().horizontalAdvance(text) + 6, 17), t.color("raised")
            )
            painter.drawText(QPointF(left, plot.top() + 12), text)

    def _paint_current(self, painter: QPainter, plot: QRectF) -> None:
        t = self.theme
        facts = self._model.facts(self._model.current)
        if facts is None or facts.start_utc is None:
            return
        x = self.state.x(facts.start_utc.timestamp())
        if not plot.left() <= x <= plot.right():
            return
        painter.setPen(QPen(t.color("cur"), 1.4))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        dot = next((d for d in self.state.dots() if d[0] == facts.path), None)
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
            self._model.set_brush(path for path, x, _, _ in self.state.dots() if a <= x <= b)
            return
        nearest = self.state.nearest(event.position().x(), event.position().y())
        self._model.set_brush(())
        if nearest:
            self._model.set_current(nearest)

    def event(self, event: QEvent) -> bool:
        """Name the exposure under the cursor."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            path = self.state.nearest(event.pos().x(), event.pos().y())
            facts = self._model.facts(path) if path else None
            if facts is not None and facts.start_utc is not None:
                why = self._model.left_out().get(path)
                tail = f", left out: {why}" if why else ""
                QToolTip.showText(event.globalPos(), f"{facts.stem}, {facts.start_utc:%H:%M:%S} UTC{tail}", self)
            return True
        return super().event(event)
