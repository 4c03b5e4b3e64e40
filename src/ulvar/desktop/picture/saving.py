"""The picture as a file, with its caption and scale."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QByteArray, QPoint, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QImage, QImageWriter, QPainter, QPen, QRegion
from PySide6.QtWidgets import QWidget

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import font
from ulvar.desktop.picture.canvas import Canvas
from ulvar.engine import atomic_path, counted
from ulvar.frames import FrameError, header_of

# Screen: as it is seen. Print: so many dots for each of the window's.
QUALITY = {"screen": 1.0, "print": 3.0}
_BAND = 64


def _of_product(path: str, title: str) -> tuple[list[str], list[str]]:
    """Return what a product's own header says of it: what it is, and of how many exposures, how long, from when to when."""
    try:
        header = header_of(path)
    except FrameError:
        return [title], []
    name = [*([str(header["OBJECT"])] if header.get("OBJECT") else []), title]
    first = [counted(int(header["NCOMBINE"]), "exposure")] if header.get("NCOMBINE") else []
    if header.get("EXPTOTAL"):
        first.append(f"{float(header['EXPTOTAL']) / 60:.0f} min in all")
    if header.get("FILTER"):
        first.append(f"filter {header['FILTER']}")
    if header.get("DATE-BEG") and header.get("DATE-END"):
        begin, end = (str(header[key])[:19].replace("T", " ") for key in ("DATE-BEG", "DATE-END"))
        first.append(f"{begin} to {end[11:] if end[:10] == begin[:10] else end} UTC")
    return name, first


def picture_caption(model: Model, title: str, canvas: Canvas, product: str = "") -> list[str]:
    """Return three lines that say what a picture shows: what, when, and how it is shown.

    With `product`, the file of a stack or master that stands in the exposure's place, they are of that.
    """
    facts = model.facts(model.current) if not product else None
    name, first = _of_product(product, title) if product else ([title], [])
    if facts is not None:
        if facts.object:
            name.insert(0, facts.object)
        if facts.start_utc:
            first.append(f"{facts.start_utc:%Y-%m-%d %H:%M:%S} UTC")
        if facts.exposure_s is not None:
            first.append(f"{facts.exposure_s:g} s")
        if facts.filter:
            first.append(f"filter {facts.filter}")
    s = canvas.stretch
    second = [f"{s.name} from {s.floor:.1f} to {s.ceiling:.1f} ADU".replace("-", "−")]
    wcs = model.plates().get(model.current) if not product else None
    if wcs is not None:
        second.append(f"{wcs.scale_arcsec_px:.3f}″ a pixel")
    second.append(f"shown at {canvas.sight.scale:.2f} × of its pixels")
    return [", ".join(name), ", ".join(first), ", ".join(second)]


def render_picture(canvas: Canvas, caption: list[str], quality: str) -> QImage:
    """Return the canvas with all its marks, and a caption with a scale bar in pixels under it.

    Parameters
    ----------
    canvas : Canvas
    caption : list of str
        Lines under the picture.
    quality : str
        A key of `QUALITY`.
    """
    ratio = QUALITY[quality]
    size = QSize(canvas.width(), canvas.height() + _BAND)
    image = QImage(size * ratio, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.fill(QColor("#000000"))
    loupe, canvas.loupe = canvas.loupe, None
    painter = QPainter(image)
    canvas.render(painter, QPoint(0, 0), QRegion(), QWidget.RenderFlag.DrawChildren)
    canvas.loupe = loupe
    theme = canvas.theme
    band = QRectF(0, canvas.height(), canvas.width(), _BAND)
    painter.fillRect(band, theme.color("panel"))
    painter.setPen(theme.color("text"))
    bar, words = _scale_bar(canvas)
    left = band.right() - bar - 16
    for i, line in enumerate(caption):
        painter.setFont(font("value" if i == 0 else "unit"))
        box = QRectF(12, band.top() + 4 + 18 * i, (left if i < 2 else band.right()) - 24, 18)
        text = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)
    painter.setPen(QPen(theme.color("text"), 1.4))
    y = band.top() + 16
    painter.drawLine(QPointF(left, y), QPointF(left + bar, y))
    for x in (left, left + bar):
        painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
    painter.setFont(font("unit"))
    painter.drawText(QRectF(left - 40, y + 4, bar + 80, 16), Qt.AlignmentFlag.AlignCenter, words)
    painter.end()
    return image


def _scale_bar(canvas: Canvas) -> tuple[float, str]:
    """Return length on the screen and words of a bar of a round number of image pixels."""
    length = next(
        (n for n in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000) if n * canvas.sight.scale > 60), 10000
    )
    return length * canvas.sight.scale, f"{length} px"


def save_picture(canvas: Canvas, caption: list[str], path: Path, quality: str) -> None:
    """Write the picture as PNG, atomically.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    image = render_picture(canvas, caption, quality)
    with atomic_path(path) as temporary:
        if not QImageWriter(str(temporary), QByteArray(b"PNG")).write(image):
            raise OSError(f"{path.name} could not be written")
