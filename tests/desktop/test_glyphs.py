"""Marks and icons look as in `glyphs.png`, which was looked at: what they tell apart is told by their shape.

Where one is changed on purpose: `python -m tests.desktop.test_glyphs` draws the picture anew; then look at it.
"""

import unittest
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import QImage, QPainter

from tests.desktop.painted import DARK, pixels
from ulvar.desktop.app import make_application
from ulvar.desktop.parts import glyphs

PICTURE = Path(__file__).with_name("glyphs.png")
# Pixels of a unit, units of a cell's side, cells of a row.
SCALE, SIDE, ROW = 3, 24, 12


def drawn() -> dict[str, Callable[[QPainter], object]]:
    """Return what draws each mark about the point (12, 12)."""
    found: dict[str, Callable[[QPainter], object]] = {}
    for state in ("empty", "part", "done", "stale", "attention", "running"):
        found[f"bead {state}"] = lambda p, s=state: glyphs.draw_bead(p, DARK, 12, 12, s)
    for word in ("blocks", "check", "note"):
        found[f"severity {word}"] = lambda p, w=word: glyphs.draw_severity(p, DARK, 12, 12, w)
    for kind in ("kept", "other", "unscored", "ruled", "finding", "left_out", "unreadable"):
        found[f"dot {kind}"] = lambda p, k=kind: glyphs.draw_dot(p, DARK, 12, 12, k)
    for shape in glyphs.SHAPES:
        found[f"shape {shape}"] = lambda p, s=shape: p.drawPath(glyphs.shape_path(s, 12, 12, 7))
    for role in ("target", "comparison", "check"):
        found[f"role {role}"] = lambda p, r=role: p.drawPath(glyphs.role_path(r, 12, 12, 9))
    found["mark"] = lambda p: glyphs.draw_mark(p, DARK, 12, 12)
    for name in (*glyphs._DRAW, "another"):
        found[f"icon {name}"] = lambda p, n=name: p.drawPixmap(4, 4, glyphs.icon(DARK, n).pixmap(QSize(16, 16), float(SCALE)))
    return found


def sheet() -> QImage:
    """Return a picture of all marks, cell by cell; each leaves the painter as it was."""
    marks = drawn()
    image = QImage(ROW * SIDE * SCALE, -(-len(marks) // ROW) * SIDE * SCALE, QImage.Format.Format_RGB888)
    image.fill(DARK.color("panel"))
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for n, draw in enumerate(marks.values()):
        painter.resetTransform()
        painter.scale(SCALE, SCALE)
        painter.translate(SIDE * (n % ROW), SIDE * (n // ROW))
        painter.setPen(glyphs.round_pen(DARK.color("soft")))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        draw(painter)
        # A square in the pen and filling of before: a mark of a plot gives the painter back as it was.
        painter.drawRect(QRect(1, 1, 2, 2))
    painter.end()
    return image


class Glyphs(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        make_application()
        cls.now, cls.seen = pixels(sheet()), pixels(QImage(str(PICTURE)))

    def test_each_looks_as_it_did_when_it_was_looked_at(self) -> None:
        self.assertEqual(self.now.shape, self.seen.shape)
        cell = SIDE * SCALE
        for n, name in enumerate(drawn()):
            where = np.s_[n // ROW * cell : (n // ROW + 1) * cell, n % ROW * cell : (n % ROW + 1) * cell]
            other = np.abs(self.now[where] - self.seen[where]).max(axis=-1) > 60
            with self.subTest(name):
                self.assertLess(other.sum(), 4, "pixels of another colour")

    def test_many_dots_at_once_look_as_each_alone(self) -> None:
        dots = [(8 + 12 * n, 8, kind) for n, kind in enumerate(("kept", "other", "finding", "kept"))]
        images = [QImage(60, 16, QImage.Format.Format_RGB888) for _ in range(2)]
        for image, together in zip(images, (True, False)):
            image.fill(DARK.color("panel"))
            painter = QPainter(image)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if together:
                glyphs.draw_dots(painter, DARK, dots)
            else:
                for x, y, kind in dots:
                    glyphs.draw_dot(painter, DARK, x, y, kind)
            painter.end()
        self.assertLess(np.abs(pixels(images[0]) - pixels(images[1])).max(), 60)


if __name__ == "__main__":
    make_application()
    sheet().save(str(PICTURE))
