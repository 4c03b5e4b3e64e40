"""Plots as a file: for the screen, and for print on white."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QByteArray, QMarginsF, QPoint, QRectF, QSizeF, Qt
from PySide6.QtGui import QImage, QImageWriter, QPageSize, QPainter, QPdfWriter

from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.theme import THEMES, Theme, font
from ulvar.engine import atomic_path

# Dots for each of the window's.
SHARP = 3.0
_MARGIN, _LINE = 14, 19
# Points of 1/72 inch for each of the window's pixels, of which 96 make an inch.
_POINTS_A_PIXEL = 0.75


def _size(plots: Sequence[Plot], caption: Sequence[str]) -> tuple[int, int]:
    width = max(plot.width() for plot in plots) + 2 * _MARGIN
    return width, sum(plot.height() for plot in plots) + 2 * _MARGIN + _LINE * len(caption) + 6


def _paint(painter: QPainter, plots: Sequence[Plot], caption: Sequence[str], theme: Theme) -> None:
    width, height = _size(plots, caption)
    painter.fillRect(QRectF(0, 0, width, height), theme.color("panel"))
    painter.setPen(theme.color("text"))
    y = _MARGIN
    for i, line in enumerate(caption):
        painter.setFont(font("section" if i == 0 else "label"))
        painter.drawText(QRectF(_MARGIN, y, width - 2 * _MARGIN, _LINE), Qt.AlignmentFlag.AlignVCenter, line)
        y += _LINE
    y += 6
    for plot in plots:
        own, plot.theme, plot.exporting = plot.theme, theme, True
        current, plot.current, marker, plot.marker = plot.current, "", plot.marker, None
        painter.save()
        painter.translate(QPoint(_MARGIN, y))
        plot.paint_on(painter)
        painter.restore()
        plot.theme, plot.exporting, plot.current, plot.marker = own, False, current, marker
        y += plot.height()


def render_plots(plots: Sequence[Plot], caption: Sequence[str], theme: Theme, sharp: float = 1.0) -> QImage:
    """Return plots under one another with a caption over them, without the mark of the current exposure.

    Parameters
    ----------
    plots : sequence of Plot
    caption : sequence of str
        Lines over them; the first is the title.
    theme : Theme
    sharp : float
        Dots for each of the window's.
    """
    width, height = _size(plots, caption)
    image = QImage(round(width * sharp), round(height * sharp), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(sharp)
    painter = QPainter(image)
    _paint(painter, plots, caption, theme)
    painter.end()
    image.setText("Description", "\n".join(caption))
    return image


def save_plots(plots: Sequence[Plot], caption: Sequence[str], theme: Theme, path: Path, sharp: float = 1.0) -> None:
    """Write plots as PNG, or as PDF with lines and letters, by the ending of the name; atomically.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    with atomic_path(path) as temporary:
        if path.suffix.lower() == ".pdf":
            _write_pdf(temporary, plots, caption)
        elif not QImageWriter(str(temporary), QByteArray(b"PNG")).write(render_plots(plots, caption, theme, sharp)):
            raise OSError(f"{path.name} could not be written")


def _write_pdf(path: Path, plots: Sequence[Plot], caption: Sequence[str]) -> None:
    width, height = _size(plots, caption)
    writer = QPdfWriter(str(path))
    writer.setTitle(caption[0] if caption else "")
    writer.setCreator("Ulvar")
    writer.setPageSize(QPageSize(QSizeF(width, height) * _POINTS_A_PIXEL, QPageSize.Unit.Point, "plot"))
    writer.setPageMargins(QMarginsF(0, 0, 0, 0))
    painter = QPainter()
    if not painter.begin(writer):
        raise OSError(f"{path.name} could not be written")
    scale = writer.width() / width
    painter.scale(scale, scale)
    _paint(painter, plots, caption, THEMES["light"])
    painter.end()


__all__ = ["SHARP", "render_plots", "save_plots"]
