"""The grid on the sky: lines where their coordinates are, names that keep clear of each other."""

import math
import re
import unittest

import numpy as np
from PySide6.QtCore import QPointF

from ulvar.astrometry import Wcs
from ulvar.desktop.app import make_application
from ulvar.desktop.parts.theme import THEMES
from ulvar.desktop.picture.grid import dec_words, grid_labels, grid_lines, ra_words, reserved
from ulvar.desktop.picture.overlays import Overlay, Scene
from ulvar.desktop.picture.sight import Sight


def scene(
    ra: float, dec: float, scale: float, turn: float, *, mirrored: bool = False, size: tuple[int, int] = (900, 640)
) -> tuple[Scene, Wcs]:
    """Return a view of a picture of 1000 x 700 px at a place of the sky."""
    c, s, hand = math.cos(math.radians(turn)), math.sin(math.radians(turn)), 1.0 if mirrored else -1.0
    wcs = Wcs(ra, dec, 500.0, 350.0, np.array([[hand * c, -s], [hand * s, c]]) * scale / 3600)
    sight = Sight()
    sight.width, sight.height = float(size[0]), float(size[1])
    sight.fit(1000, 700)
    overlay = Overlay(wcs=wcs, grid=True)
    return Scene(sight, overlay, None, THEMES["dark"], THEMES["dark"], 1.0), wcs


class Grid(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        """Make the application: fonts need it."""
        cls.app = make_application()

    def test_names_never_collide(self) -> None:
        rng = np.random.default_rng(4)
        named = 0
        for _ in range(120):
            ra, dec = float(rng.uniform(0, 360)), float(rng.uniform(-90, 90))
            view, wcs = scene(ra, dec, float(10 ** rng.uniform(-0.7, 2.2)), float(rng.uniform(0, 360)), mirrored=bool(rng.integers(2)),
                              size=(int(rng.integers(320, 1300)), int(rng.integers(280, 900))))  # fmt: skip
            view.sight.zoom(float(10 ** rng.uniform(-0.2, 1.0)), QPointF(100, 90))
            labels = grid_labels(view, list(grid_lines(view, wcs)))
            named += len(labels)
            for i, (box, words) in enumerate(labels):
                self.assertTrue(
                    box.left() >= 0 and box.right() <= view.sight.width and box.top() >= 0 and box.bottom() <= view.sight.height, words
                )
                for other, _ in labels[:i]:
                    self.assertFalse(box.intersects(other), f"{words} at RA {ra} Dec {dec}")
                for held in reserved(view):
                    self.assertFalse(box.intersects(held), words)
        self.assertGreater(named, 120 * 4)

    def test_lines_lie_where_they_say(self) -> None:
        for ra, dec in ((10.0, 5.0), (359.99, -40.0), (80.0, 89.7), (200.0, -89.9)):
            view, wcs = scene(ra, dec, 6.0, 25.0)
            lines = list(grid_lines(view, wcs))
            self.assertTrue(any(line.of_ra for line in lines) and any(not line.of_ra for line in lines))
            for line in lines:
                wanted = _value(line.words)
                for piece in line.pieces:
                    for at in piece[:: max(1, len(piece) // 5)]:
                        place = view.sight.to_image(at)
                        a, d = (float(v) for v in wcs.sky(place.x(), place.y()))
                        found = (a - wanted + 180) % 360 - 180 if line.of_ra else d - wanted
                        self.assertLess(abs(found) * (math.cos(math.radians(d)) if line.of_ra else 1.0), 1e-6, line.words)

    def test_a_pole_in_view_has_all_meridians(self) -> None:
        view, wcs = scene(30.0, 89.9, 8.0, 0.0)
        meridians = [_value(line.words) for line in grid_lines(view, wcs) if line.of_ra]
        self.assertEqual(len(set(meridians)), len(meridians))
        self.assertLess(np.max(np.diff(np.sort(np.array([*meridians, 360.0 + min(meridians)])))), 91)

    def test_each_line_once_across_zero_hours(self) -> None:
        view, wcs = scene(0.01, 20.0, 3.0, 0.0)
        words = [line.words for line in grid_lines(view, wcs)]
        self.assertEqual(len(set(words)), len(words))
        self.assertTrue(any(w.startswith("23h") for w in words) and any(w.startswith("0h") for w in words))

    def test_words(self) -> None:
        self.assertEqual(dec_words(-(3600 * 5 + 90), 30), "−5° 01′ 30″")
        self.assertEqual(dec_words(3600 * 41 + 600, 600), "+41° 10′")
        self.assertEqual(ra_words(-30, 30), "23h 59m 30s")
        self.assertEqual(ra_words(7 * 3600 + 42 * 60, 60), "7h 42m")
        self.assertEqual(ra_words(0.2, 0.2), "0h 00m 00.2s")


def _value(words: str) -> float:
    """Return what a line's name says [deg]."""
    numbers = [float(n) for n in re.findall(r"[\d.]+", words)]
    total = sum(n / 60**k for k, n in enumerate(numbers))
    return total * 15 if "h" in words else (-total if words.startswith("−") else total)
