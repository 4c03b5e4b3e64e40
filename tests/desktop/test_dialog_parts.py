"""Parts of dialogs alone: the picture in which a film's stars are named."""

import unittest

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from tests.desktop.painted import DARK, near, pixels
from ulvar.desktop.app import make_application
from ulvar.desktop.dialogs.film_picture import FilmPicture
from ulvar.photometry import ListedStar


class Film(unittest.TestCase):
    """A frame of 40 x 30 px in 500 x 300 of the screen: ten for one, fifty left over at each side."""

    def setUp(self) -> None:
        make_application()
        self.picture = FilmPicture(DARK)
        self.picture.resize(500, 300)
        grey = np.zeros((30, 40), np.uint8)
        grey[:10, :20] = 255
        self.picture.show_picture(grey)
        self.addCleanup(self.picture.deleteLater)

    def seen(self) -> np.ndarray:
        return pixels(self.picture.grab().toImage())

    def test_it_fills_the_height_and_keeps_its_form(self) -> None:
        box, scale = self.picture._box()
        self.assertEqual((box, scale), (QRectF(50, 0, 400, 300), 10.0))
        self.assertEqual(self.picture.to_screen(3, 4), QPointF(85, 45))
        white = near(self.seen(), QColor("white"))
        self.assertTrue(white[5:95, 55:245].all() and not white[:, :45].any() and not white[105:].any() and not white[:, 255:].any())

    def test_a_click_tells_a_place_of_the_frame(self) -> None:
        places: list[tuple[float, float]] = []
        self.picture.clicked.connect(lambda x, y: places.append((x, y)))
        for at in ((85, 45), (20, 100), (449, 299)):
            QTest.mouseClick(self.picture, Qt.MouseButton.LeftButton, pos=QPoint(*at))
        np.testing.assert_allclose(places, [(3, 4), (39.4, 29.4)])

    def test_stars_have_their_marks_rings_and_names(self) -> None:
        self.picture.stars = [ListedStar("one", "target", x=20.0, y=20.0), ListedStar("a comparison star", "comparison", x=37.0, y=6.0)]
        target, comparison = (near(self.seen(), DARK.color(token), 60) for token in ("target", "comparison"))
        rows, columns = np.nonzero(target[:, 240:270])
        np.testing.assert_allclose((rows.min(), rows.max()), (197, 213), atol=1.5)
        # Names stand at the right, where there is room, else at the left.
        self.assertTrue(target[200:214, 268:300].any() and not target[:, 220:244].any())
        self.assertTrue(comparison[55:75, 330:405].any() and not comparison[:, 440:].any())
        self.picture.rings = (2.0, 4.0, 5.0)
        target = near(self.seen(), DARK.color("target"), 60)
        rows, columns = np.nonzero(target[:, 150:310])
        self.assertTrue(target[183:188, 250:260].any() and target[202:208, 233:238].any(), "20 px about the middle")
        np.testing.assert_allclose((rows.min(), rows.max(), columns.min() + 150), (155, 255, 205), atol=2)

    def test_without_a_film_it_says_so(self) -> None:
        self.picture.show_picture(None)
        self.assertTrue(near(self.seen(), DARK.color("mute"), 60)[140:160, 200:300].any())
        self.assertFalse(near(self.seen(), QColor("white")).any())
