"""What a window shows, in words and as a small picture, to be compared with what it showed before."""

from __future__ import annotations

import math
import re
import zlib
from collections.abc import Iterator, Sequence
from functools import cache
from itertools import chain, islice
from pathlib import Path

import numpy as np
from PySide6.QtCore import QAbstractItemModel, QAbstractListModel, QModelIndex, QPoint, QRect, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QWidget
from tools.same import keeps_anew

# What is read of a part, in sight and beside the pointer or aloud, and what it is set to.
_READ = ("text", "plainText", "title", "placeholderText", "currentText")
_SAID = ("text", "title", "placeholderText", "currentText", "value", "toolTip", "accessibleName")
_STATE = ("enabled", "checked", "readOnly", "tabChangesFocus")
_SET = ("kind", "minimum", "maximum", "singleStep", "decimals", "prefix", "suffix", "alignment", "wordWrap")
# How any part is reached, and its size.
_PLAIN: dict[str, object] = {
    "focus": "NoFocus", "cursor": "ArrowCursor", "follows": False, "least": (0, 0), "most": (16777215, 16777215),
}  # fmt: skip
_TIP = Qt.ItemDataRole.ToolTipRole
# Pixels of a block's side; blocks of a small picture's row; levels by which a block looks otherwise.
BLOCK, ACROSS, OTHER = 8, 160, 14
# The same of a window in a test: a block of `ANY` is not compared, `LEFT_FEW` blocks may look otherwise, and what `LEFT_MANY` blocks of
# another run show otherwise is not held.
LEFT_BLOCK, LEFT_OTHER, LEFT_FEW, LEFT_MANY, ANY = 16, 5, 1, 40, 255


@cache
def _properties(kind: type[QWidget], names: Sequence[str]) -> tuple[str, ...]:
    """Return those of these properties that parts of a kind have; ``kind`` is one that is given to them."""
    meta = kind.staticMetaObject
    return tuple(name for name in names if name == "kind" or meta.indexOfProperty(name) >= 0)


def _ways(widget: QWidget) -> str:
    """Return how a part is reached and how large it may be, as far as it is not as for any other."""
    least, most = widget.minimumSize(), widget.maximumSize()
    ways = {
        "focus": widget.focusPolicy().name, "cursor": widget.cursor().shape().name, "follows": widget.hasMouseTracking(),
        "least": (least.width(), least.height()), "most": (most.width(), most.height()),
    }  # fmt: skip
    return " ".join(f"{name}={value}" for name, value in ways.items() if value != _PLAIN[name])


def _cells(model: QAbstractItemModel) -> Iterator[list[QModelIndex]]:
    """Yield the cells of a list or table, row by row."""
    columns = 1 if isinstance(model, QAbstractListModel) else model.columnCount()
    for row in range(model.rowCount()):
        yield [model.index(row, column) for column in range(columns)]


def told(part: QWidget) -> list[str]:
    """Return what a reader finds in a part: kind, place, words, state, how it is reached, cells of lists and actions, a line each."""
    found = [
        f"QAction | {action.text()} | {action.shortcut().toString()} | {action.isEnabled()} {action.isChecked()}"
        for action in part.actions()
    ]
    found.append(f"title | {part.windowTitle()}")
    for widget in (part, *part.findChildren(QWidget)):
        if not widget.isVisibleTo(part) or widget.metaObject().className().startswith("QScroll"):
            continue
        corner = widget.mapTo(part, QPoint(0, 0))
        kind = type(widget)
        said = [widget.property(name) for name in _properties(kind, _SAID)]
        # How long work will take is the machine's.
        words = [re.sub(r"About \d+ \w+", "About", str(word)) for word in said if word not in (None, "")]
        state = [name for name in _properties(kind, _STATE) if widget.property(name) is True]
        state += [f"{name}={value}" for name in _properties(kind, _SET) if (value := widget.property(name)) is not None]
        if isinstance(widget, QComboBox):
            state += [f"{widget.itemText(n)} {widget.itemData(n, _TIP) or ''}" for n in range(widget.count())]
        place = f"{corner.x()},{corner.y()} {widget.width()}x{widget.height()}"
        found.append(" | ".join(word for word in (type(widget).__name__, place, *words, " ".join(state)) if word))
        if ways := _ways(widget):
            found.append(" | ".join([type(widget).__name__, *words[:1], ways]))
        if isinstance(widget, QAbstractItemView) and (model := widget.model()) is not None:
            for cells in islice(_cells(model), 12):
                roles = (Qt.ItemDataRole.DisplayRole, _TIP)
                found.append(
                    " | ".join(
                        str(cell.data(role)) for cell in cells for role in roles if cell.data(role) not in (None, "")
                    )
                )
    return found


def pixels(image: QImage) -> np.ndarray:
    """Return a picture as an array, shape (height, width, 3)."""
    image = image.convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).astype(int)


def small(image: np.ndarray) -> np.ndarray:
    """Return a picture, shape (height, width, 3), a block to a pixel, and as wide as all are."""
    high, wide = image.shape[0] // BLOCK, min(image.shape[1] // BLOCK, ACROSS)
    blocks = image[: high * BLOCK, : wide * BLOCK].reshape(high, BLOCK, wide, BLOCK, 3).mean(axis=(1, 3))
    return np.pad(blocks.round().astype(np.uint8), ((0, 0), (0, ACROSS - wide), (0, 0)))


def _spelling(part: QWidget, words: Sequence[str]) -> Iterator[QRect]:
    """Yield where one of these words is read on a part."""
    for widget in (part, *part.findChildren(QWidget)):
        if not widget.isVisibleTo(part) or isinstance(widget, QHeaderView):
            continue
        if isinstance(widget, QAbstractItemView) and (model := widget.model()) is not None:
            for cell in chain.from_iterable(_cells(model)):
                said = str(cell.data(Qt.ItemDataRole.DisplayRole))
                if any(word in said for word in words):
                    place = widget.visualRect(cell)
                    yield QRect(widget.viewport().mapTo(part, place.topLeft()), place.size())
        elif any(word in str(widget.property(name)) for name in _READ for word in words):
            yield QRect(widget.mapTo(part, QPoint(0, 0)), widget.size())


def left_look(part: QWidget, without: Sequence[str]) -> np.ndarray:
    """Return how a part looks, a block to a pixel, `ANY` where one of these words is read, shape (height, width, 3)."""
    image = part.grab().toImage()
    high, wide = max(1, image.height() // LEFT_BLOCK), max(1, image.width() // LEFT_BLOCK)
    away = Qt.TransformationMode.SmoothTransformation
    look = np.minimum(pixels(image.scaled(wide, high, Qt.AspectRatioMode.IgnoreAspectRatio, away)), ANY - 1)
    for place in _spelling(part, without):
        (x0, x1), (y0, y1) = (
            (max(0, math.floor(start * blocks / size)), math.ceil((end + 1) * blocks / size))
            for start, end, blocks, size in (
                (place.left(), place.right(), wide, part.width()),
                (place.top(), place.bottom(), high, part.height()),
            )
        )
        look[y0:y1, x0:x1] = ANY
    return look


def packed(look: np.ndarray) -> str:
    """Return a look as a word: height, width, pixels in figures that make no words by chance."""
    return f"{look.shape[0]} {look.shape[1]} {zlib.compress(look.astype(np.uint8).tobytes(), 9).hex()}"


def unpacked(word: str) -> np.ndarray:
    """Return the look of `packed`."""
    high, wide, figures = word.split(" ")
    return np.frombuffer(zlib.decompress(bytes.fromhex(figures)), np.uint8).reshape(int(high), int(wide), 3).astype(int)


def left_otherwise(now: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Return which blocks of a part look otherwise than they did, all of them where it has another size; shape (height, width)."""
    if now.shape != before.shape:
        return np.ones(now.shape[:2], bool)
    return ((np.abs(now - before) > LEFT_OTHER) & (before != ANY) & (now != ANY)).any(axis=-1)


def other_blocks(looks: dict[str, np.ndarray], path: Path) -> dict[str, list[list[int]]]:
    """Return, of small pictures one below the other in a file, the blocks that look otherwise now."""
    sheet = np.concatenate(list(looks.values()))
    if keeps_anew():
        QImage(sheet.tobytes(), ACROSS, len(sheet), 3 * ACROSS, QImage.Format.Format_RGB888).save(str(path))
    before = pixels(QImage(str(path)))
    if before.shape != sheet.shape:
        return {name: [[-1, -1]] for name in looks}
    other = np.abs(before - sheet).max(axis=-1) > OTHER
    parts = np.split(other, np.cumsum([len(look) for look in looks.values()])[:-1])
    return {name: np.argwhere(part).tolist() for name, part in zip(looks, parts)}
