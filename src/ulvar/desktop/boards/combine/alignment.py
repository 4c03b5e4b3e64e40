"""Combine, page Alignment: how the exposure on screen lies on the reference."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.models.stacks import Alignment
from ulvar.desktop.parts.plots import Plot, Points
from ulvar.desktop.parts.theme import Theme, font
from ulvar.desktop.parts.widgets import clear, decimals_of, label
from ulvar.engine import counted

# What each kind of map can follow.
_FOLLOWS = {
    "shift": "moves all stars alike",
    "similarity": "moves, turns and scales all alike",
    "affine": "shears too, as refraction does",
    "projective": "follows a tilted sensor",
    "quadratic": "follows a field that is bent to second order",
    "cubic": "follows optics that bend the field",
}
# So long is the arrow on screen that nine of ten stay under [px].
_ARROW = 26.0


class ResidualPlot(QWidget):
    """Stars in common where the exposure has them, with arrows to where the reference puts them, drawn far longer."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.alignment: Alignment | None = None
        self.size_px = (3, 2)
        self.empty = ""
        self.setMinimumHeight(200)
        self.setAccessibleName("Residuals of the alignment over the field")
        self.setToolTip("An arrow for each star in common: from where the map puts it to where the reference has it")

    def box(self) -> QRectF:
        """Return where the field is drawn, the legend below it."""
        aspect = self.size_px[0] / max(1, self.size_px[1])
        width = min(float(self.width()), (self.height() - 24) * aspect)
        return QRectF(0, 0, width, width / aspect)

    def unit(self) -> float:
        """Return a round residual [px] for the arrow of the legend."""
        if self.alignment is None or not len(self.alignment.residuals):
            return math.nan
        most = float(np.percentile(np.hypot(*self.alignment.residuals.T), 90))
        if most <= 0:
            return math.nan
        power = 10.0 ** math.floor(math.log10(most))
        return next(step * power for step in (5, 2, 1) if step * power <= most * 1.0001)

    def arrows(self) -> list[tuple[QPointF, QPointF]]:
        """Return where each arrow begins and ends in the widget."""
        if self.alignment is None or math.isnan(self.unit()):
            return []
        box, (width, height) = self.box(), self.size_px
        scale = self._scale()
        made = []
        for (x, y), (dx, dy) in zip(self.alignment.places, self.alignment.residuals):
            start = QPointF(
                box.left() + (x + 0.5) / width * box.width(), box.bottom() - (y + 0.5) / height * box.height()
            )
            made.append((start, start + QPointF(dx * scale, -dy * scale)))
        return made

    def _scale(self) -> float:
        assert self.alignment is not None
        most = float(np.percentile(np.hypot(*self.alignment.residuals.T), 90))
        return _ARROW / most

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the field, its arrows and the legend."""
        painter, t = QPainter(self), self.theme
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font("unit"))
        box = self.box()
        painter.fillRect(box, t.color("plot"))
        arrows = self.arrows()
        if not arrows:
            painter.setPen(t.color("mute"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.empty)
            return
        painter.save()
        painter.setClipRect(box)
        painter.setPen(QPen(t.color("text"), 1.3))
        for start, end in arrows:
            painter.drawLine(start, end)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("check"))
        for start, _ in arrows:
            painter.drawEllipse(start, 1.8, 1.8)
        painter.restore()
        unit = self.unit()
        y = box.bottom() + 13
        long = unit * self._scale()
        painter.setPen(QPen(t.color("text"), 1.3))
        painter.drawLine(QPointF(2, y), QPointF(2 + long, y))
        painter.setPen(t.color("soft"))
        painter.drawText(QPointF(10 + long, y + 4), f"{unit:.{decimals_of(unit)}f} px")


class AlignmentPage(QWidget):
    """Which map carries the exposure on screen onto the reference, why that one, and what it leaves."""

    def __init__(self, parent: QWidget, model: Model, theme: Theme, command: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._model = model
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(8)
        self.title = label("", "value")
        column.addWidget(self.title)
        self.words = label("", wrap=True)
        column.addWidget(self.words)
        self.point = QPushButton("Point out a common star")
        self.point.setToolTip(
            "Click a star here, then the same star in the reference: one or two bring the exposure in"
        )
        self.point.clicked.connect(lambda: command("common star"))
        helping = QHBoxLayout()
        helping.addWidget(self.point)
        helping.addStretch(1)
        column.addLayout(helping)
        self.field = ResidualPlot(theme)
        row = QHBoxLayout()
        row.setSpacing(12)
        row.addWidget(self.field, 1)
        side = QVBoxLayout()
        self.kinds = QGridLayout()
        self.kinds.setHorizontalSpacing(10)
        self.kinds.setVerticalSpacing(2)
        side.addLayout(self.kinds)
        side.addStretch(1)
        row.addLayout(side)
        column.addLayout(row, 4)
        self.radius = Plot(theme, x_label="from the middle, px", y_label="residual, px", ticks=3)
        self.radius.setMinimumHeight(120)
        column.addWidget(self.radius, 2)
        body = QHBoxLayout()
        self.body_words = label("", wrap=True)
        self.mark_body = QPushButton("Mark a moving body")
        self.mark_body.setToolTip("Click it in two exposures or more: a second stack is made on which it stays")
        self.mark_body.clicked.connect(lambda: command("mark body"))
        self.forget_body = QPushButton("Forget it")
        self.forget_body.setToolTip("Take the marks of the moving body away")
        self.forget_body.clicked.connect(lambda: command("forget body"))
        body.addWidget(self.body_words, 1)
        body.addWidget(self.mark_body)
        body.addWidget(self.forget_body)
        column.addLayout(body)
        column.addStretch(0)
        model.pointing.changed.connect(self._tell_body)

    def refresh(self) -> None:
        """The alignment belongs to the exposure on screen, which is told right after."""
        self._tell_body()

    def _tell_body(self) -> None:
        pointing = self._model.pointing
        count = len(pointing.marks())
        if not count:
            told = "A comet or minor planet? Marked in two exposures, it gets a stack of its own."
        elif count == 1:
            told = "The moving body is marked in one exposure; a second one is needed."
        else:
            told = f"The moving body is marked in {counted(count, 'exposure')}."
        self.body_words.setText(told)
        self.forget_body.setVisible(count > 0)
        self.mark_body.setText("Click the body…" if pointing.mode == "body" else "Mark a moving body")
        self.point.setText("Click a star…" if pointing.mode in ("here", "there") else "Point out a common star")

    def show_current(self, path: str) -> None:
        """Show the alignment of another exposure."""
        facts, found = self._model.facts(path), self._model.stacks.alignment(path)
        self.point.setVisible(found is None and not self._model.pointing.why_not_common())
        self.title.setText(facts.stem if facts is not None else "")
        self.field.alignment = None if found is None or found.is_reference else found
        if facts is not None:
            self.field.size_px = facts.width, facts.height
        self.words.setText(self._told(path, found))
        self.field.empty = (
            "This is the reference." if found is not None and found.is_reference else "It is not aligned."
        )
        self.radius.empty = self.field.empty
        shown = self.field.alignment
        middle = (np.array(self.field.size_px) - 1) / 2
        self.radius.series = []
        if shown is not None and len(shown.places):
            away = np.hypot(*(shown.places - middle).T)
            self.radius.series = [Points(away, np.hypot(*shown.residuals.T), kinds=["other"] * len(away))]
            self.radius.y_range = 0.0, 1.15 * float(np.hypot(*shown.residuals.T).max()) or 1.0
        self._fill_kinds(shown)
        self.field.update()
        self.radius.update()

    def _told(self, path: str, found: Alignment | None) -> str:
        if found is None:
            found_out = [f for f in self._model.jobs.findings() if path in f.files]
            reasons = [
                f.text for f in found_out if f.code in ("not_aligned", "not_scored", "other_field", "no_agreement")
            ]
            return reasons[0] if reasons else "This exposure is not aligned: score the exposures first."
        if found.is_reference:
            return "The others are aligned on this one: it is the best of the largest set that shows the same stars."
        bright = f", {len(found.places)} of SNR over {found.snr:g} shown" if found.snr else ""
        why = (
            " The simplest map was taken that foretells stars left out of the fit as well as any."
            if found.tried
            else ""
        )
        return (
            f"{found.kind.capitalize()}: {_FOLLOWS.get(found.kind, 'a map')}. {found.matched} stars in common{bright}; "
            f"they lie within {found.rms_px:.3f} px per axis.{why}"
        )

    def _fill_kinds(self, shown: Alignment | None) -> None:
        clear(self.kinds)
        if shown is None or not shown.tried:
            return
        self.kinds.addWidget(label("A star left out\nis missed by", "unit"), 0, 0, 1, 2)
        for row, (kind, missed) in enumerate(shown.tried, 1):
            taken = kind == shown.kind
            self.kinds.addWidget(label(f"{'▸ ' if taken else ''}{kind}", "value" if taken else "label"), row, 0)
            number = label(f"{missed:.3f} px", "value" if taken else "label")
            number.setToolTip(f"It {_FOLLOWS.get(kind, '')}")
            self.kinds.addWidget(number, row, 1)
