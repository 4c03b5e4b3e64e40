"""The picture as a file, with its caption and scale."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QByteArray, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QImageWriter, QPainter, QPen

from ulvar.desktop.models.model import Model
from ulvar.desktop.parts.theme import font
from ulvar.desktop.picture.canvas import Canvas
from ulvar.desktop.picture.overlays import Overlay
from ulvar.engine import atomic_path, counted, true_minus
from ulvar.frames import FrameError, header_of

# So many dots for each of the window's, for print.
PRINT = 3.0
# A whole picture is laid out as if it were this wide, so that marks and words keep their size beside the stars [px].
_LAID_OUT = 1600.0
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


def picture_caption(model: Model, title: str, canvas: Canvas, product: str = "", size: Size | None = None) -> list[str]:
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
    second = [true_minus(f"{s.name} from {s.floor:.1f} to {s.ceiling:.1f} ADU")]
    wcs = model.plates().get(model.current) if not product else None
    if wcs is not None:
        second.append(f"{wcs.scale_arcsec_px:.3f}″ a pixel")
    whole = size is not None and size.whole
    dots = size.scale if size is not None and whole else canvas.sight.scale * (size.scale if size is not None else 1.0)
    second.append(f"{dots:.3g} dots a pixel")
    return [", ".join(name), ", ".join(first), ", ".join(second)]


@dataclass(frozen=True)
class Size:
    """How large a picture is saved.

    Attributes
    ----------
    whole : bool
        The whole picture instead of what is in view.
    scale : float
        Of the whole picture: dots for each of its pixels. Of the view: dots for each of the window's.
    """

    whole: bool
    scale: float

    def dots(self, canvas: Canvas) -> tuple[int, int]:
        """Return width and height of the picture in dots, without its caption."""
        if not self.whole or canvas.picture is None:
            return round(canvas.width() * self.scale), round(canvas.height() * self.scale)
        height, width = canvas.picture.shape
        angle = math.radians(canvas.sight.turn_deg)
        c, s = abs(math.cos(angle)), abs(math.sin(angle))
        # To a thousandth of a pixel: a quarter turn is one.
        across, down = (round(v * self.scale, 3) for v in (width * c + height * s, width * s + height * c))
        return math.ceil(across), math.ceil(down)


AS_SEEN, FOR_PRINT, FULL = Size(False, 1.0), Size(False, PRINT), Size(True, 1.0)


def sizes_of(canvas: Canvas) -> list[tuple[str, Size]]:
    """Return what sizes a picture can be saved in, with their words."""
    sizes = [
        ("As on screen", AS_SEEN), ("As on screen, for print", FOR_PRINT), ("Whole picture, every pixel", FULL),
        ("Whole picture, half", Size(True, 0.5)), ("Whole picture, a quarter", Size(True, 0.25)),
    ]  # fmt: skip
    if canvas.picture is None:
        return []
    return [(f"{words} ({' × '.join(map(str, size.dots(canvas)))})", size) for words, size in sizes]


def _copy_of(canvas: Canvas, size: Size) -> tuple[Canvas, float]:
    """Return a canvas of that size with the same picture and marks, and the dots for each of its pixels."""
    copy = Canvas(canvas.theme)
    for name in (
        "picture",
        "problem",
        "stretch",
        "overlay",
        "second",
        "second_stretch",
        "sides",
        "border",
        "line",
        "box",
    ):
        setattr(copy, name, getattr(canvas, name))
    width, height = size.dots(canvas)
    ratio = max(1.0, width / _LAID_OUT) if size.whole else size.scale
    copy.resize(round(width / ratio), round(height / ratio))
    copy.fitted = False
    sight, own = copy.sight, canvas.sight
    sight.width, sight.height = width / ratio, height / ratio
    sight.turn_deg, sight.mirrored = own.turn_deg, own.mirrored
    if size.whole and canvas.picture is not None:
        rows, columns = canvas.picture.shape
        sight.scale, sight.centre = size.scale / ratio, QPointF((columns - 1) / 2, (rows - 1) / 2)
    else:
        sight.scale, sight.centre = own.scale, QPointF(own.centre)
    return copy, ratio


def render_picture(canvas: Canvas, caption: Sequence[str], size: Size = AS_SEEN, *, marks: bool = True) -> QImage:
    """Return the picture with its marks, and under it a caption with a scale bar in pixels.

    Parameters
    ----------
    canvas : Canvas
    caption : sequence of str
        Lines under the picture; none leaves the band away.
    size : Size
    marks : bool
        Whether stars, regions, lines and the like are drawn.
    """
    copy, ratio = _copy_of(canvas, size)
    if not marks:
        copy.overlay, copy.line, copy.box = Overlay(), None, None
    width, height = size.dots(canvas)
    image = QImage(width, height + (round(_BAND * ratio) if caption else 0), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.fill(QColor("#000000"))
    painter = QPainter(image)
    painter.setClipRect(QRectF(0, 0, width / ratio, height / ratio))
    copy.paint_on(painter, ratio)
    painter.setClipping(False)
    if caption:
        _write_caption(painter, copy, caption)
    painter.end()
    image.setText("Description", "\n".join(caption))
    copy.deleteLater()
    return image


def _write_caption(painter: QPainter, canvas: Canvas, caption: Sequence[str]) -> None:
    theme = canvas.theme
    band = QRectF(0, canvas.sight.height, canvas.sight.width, _BAND)
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


def _scale_bar(canvas: Canvas) -> tuple[float, str]:
    """Return length on the screen and words of a bar of a round number of image pixels."""
    length = next(
        (n for n in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000) if n * canvas.sight.scale > 60), 10000
    )
    return length * canvas.sight.scale, f"{length} px"


def save_image(image: QImage, path: Path) -> None:
    """Write a picture as PNG, atomically.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    with atomic_path(path) as temporary:
        if not QImageWriter(str(temporary), QByteArray(b"PNG")).write(image):
            raise OSError(f"{path.name} could not be written")
