"""The sky behind the night line: twilight, the Moon, airmass."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from ulvar.desktop.parts.theme import Theme, font
from ulvar.engine import percent
from ulvar.frames import ExposureFacts
from ulvar.lightcurves import airmass_at, moon_at, sun_altitude_deg

# Height of the findings lane at the top of the plot [px].
LANE = 18
_MOMENTS = 160


@lru_cache(maxsize=8)
def _course(
    ra_deg: float, dec_deg: float, site: tuple[float, float, float], low: float, high: float
) -> tuple[np.ndarray, ...]:
    """Return moments [s since 1970], altitudes of Sun and Moon [deg], the Moon's lit share and a field's airmass, each of shape (_MOMENTS,)."""
    # Sun, Moon and field move so evenly that a fourth of the moments tells the others.
    nodes = np.linspace(low, high, _MOMENTS // 4)
    stamps = [datetime.fromtimestamp(m, UTC) for m in nodes]
    columns = (sun_altitude_deg(stamps, site), *moon_at(stamps, site), airmass_at(stamps, ra_deg, dec_deg, site))
    moments = np.linspace(low, high, _MOMENTS)
    return moments, *(np.interp(moments, nodes, column) for column in columns)


class NightSky:
    """Sun, Moon and airmass over a span of time, computed once for each span and field."""

    def __init__(self) -> None:
        self._moments = np.empty(0)

    def follow(self, facts: ExposureFacts, low: float, high: float) -> None:
        """Compute for a field and a span of time [s since 1970]."""
        if facts.site is None or facts.ra_deg is None or facts.dec_deg is None:
            return
        course = _course(facts.ra_deg, facts.dec_deg, facts.site, low, high)
        self._moments, self.sun, self.moon, self.lit, self.airmass = course

    def _x(self, plot: QRectF) -> np.ndarray:
        low, high = self._moments[0], self._moments[-1]
        return plot.left() + (self._moments - low) / (high - low) * plot.width()

    def paint_twilight(self, painter: QPainter, theme: Theme, plot: QRectF) -> None:
        """Four tones: day, civil, nautical, astronomical twilight; night has none."""
        if not len(self._moments):
            return
        step = plot.width() / _MOMENTS
        tones = np.select([self.sun < -18, self.sun < -12, self.sun < -6, self.sun < 0], [0.0, 0.16, 0.34, 0.55], 0.8)
        edges = [0, *(np.flatnonzero(np.diff(tones)) + 1).tolist(), len(tones)]
        xs = self._x(plot)
        # A tone is one rectangle: many beside each other would show their seams.
        for first, last in zip(edges[:-1], edges[1:]):
            if tones[first]:
                left, right = (
                    min(max(float(xs[k]) - step / 2, plot.left()), plot.right())
                    for k in (first, min(last, len(xs) - 1))
                )
                right = plot.right() if last == len(xs) else right
                painter.fillRect(
                    QRectF(left, plot.top(), right - left, plot.height()),
                    theme.color("edge", 0.42 * float(tones[first])),
                )

    def paint_moon(self, painter: QPainter, theme: Theme, plot: QRectF) -> None:
        """A dotted line of its altitude where it is up, from the floor (horizon) to the top (zenith)."""
        if not len(self._moments):
            return
        up = self.moon > 0
        if not up.any():
            return
        xs = self._x(plot)
        floor, tall = plot.bottom() - 1, plot.height() - LANE - 14
        path, began = QPainterPath(), False
        for x, altitude, here in zip(xs, self.moon, up):
            place = QPointF(float(x), floor - tall * float(altitude) / 90)
            if here and not began:
                path.moveTo(place)
            elif here:
                path.lineTo(place)
            began = bool(here)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.color("note", 0.8), 1.2, Qt.PenStyle.DotLine))
        painter.drawPath(path)

    @property
    def moon_words(self) -> str:
        """What the Moon does in this span, in words; empty when it stays down."""
        if not len(self._moments) or not (self.moon > 0).any():
            return ""
        share = float(self.lit[int(np.argmax(self.moon))])
        return f"Moon, {percent(share)} lit"

    def paint_airmass(self, painter: QPainter, theme: Theme, plot: QRectF) -> None:
        """A dashed line with its scale at the right."""
        if not len(self._moments):
            return
        tall = plot.height() - LANE - 14
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.color("mute"), 1, Qt.PenStyle.DashLine))
        points = [
            QPointF(float(x), plot.top() + LANE + (float(a) - 1.0) / 1.2 * tall)
            for x, a in zip(self._x(plot), self.airmass)
            if math.isfinite(a) and a < 2.2
        ]
        if len(points) > 1:
            painter.drawPolyline(points)
        painter.setFont(font("unit"))
        for value in (1.0, 1.5, 2.0):
            y = plot.top() + LANE + (value - 1.0) / 1.2 * tall
            painter.drawText(QPointF(plot.right() + 6, y + 4), f"{value:.1f}")
        painter.drawText(QRectF(plot.right() - 50, plot.bottom() + 4, 94, 16), Qt.AlignmentFlag.AlignRight, "airmass")
