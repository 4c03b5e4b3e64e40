"""Parts of boards alone: cells and arrows by their pixels, rows and sentences by their words."""

import math
import unittest
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QStyleOptionViewItem, QWidget

from tests.desktop.painted import DARK, near, pixels
from ulvar.calibration import Choice, Fit
from ulvar.desktop.app import make_application
from ulvar.desktop.boards.combine.alignment import ResidualPlot
from ulvar.desktop.boards.curve.beside import add_stars
from ulvar.desktop.boards.curve.light import LightPage
from ulvar.desktop.boards.intake.board import _MIME, GroupCard
from ulvar.desktop.boards.masters.cells import MatchCell
from ulvar.desktop.boards.measure.aperture import AperturePage, _row
from ulvar.desktop.boards.measure.board import _Marks
from ulvar.desktop.boards.plate.bodies import summary_words
from ulvar.desktop.parts.plots import Plot
from ulvar.desktop.parts.widgets import Rows
from ulvar.desktop.parts.zoomed import Ruler
from ulvar.flows.positions import BodySummary
from ulvar.frames import ExposureFacts, Role, group_exposures
from ulvar.photometry import ListedStar
from ulvar.photometry.growth import Growth


class Painted(unittest.TestCase):
    def setUp(self) -> None:
        make_application()

    def test_a_cell_tells_its_fit_by_a_mark_in_its_corner_and_by_its_rim(self) -> None:
        for fit, token, rim in (
            (Fit.FITS, "good", False),
            (Fit.NEAR, "check", False),
            (Fit.NOTHING_SAFE, "block", True),
            (Fit.NOT_NEEDED, "", False),
        ):
            cell = MatchCell(DARK, SimpleNamespace(filter="V"), Choice(Role.DARK, fit, reason="none is near"))
            cell.resize(140, 58)
            image = pixels(cell.grab().toImage())
            for name in ("good", "check", "block"):
                rows, columns = np.nonzero(near(image, DARK.color(name), 60)[8:26, 100:])
                with self.subTest(fit=fit, token=name):
                    self.assertEqual(len(rows) > 8, name == token)
                    if name == token:
                        self.assertTrue(columns.min() >= 13 and columns.max() <= 34 and rows.min() >= 2, "where the words end")
            self.assertEqual(near(image, DARK.color("block"), 90)[1, 20:100].mean() > 0.4, rim)
            # Lying on ground of its own, but for what needs none.
            self.assertEqual(bool(near(image, DARK.color("raised"), 3)[52, 60]), fit in (Fit.FITS, Fit.NEAR))
            cell.chosen = True
            self.assertTrue(near(pixels(cell.grab().toImage()), DARK.color("cur"), 60)[20:40, :3].any(axis=1).all())

    def test_arrows_begin_at_their_stars_and_go_where_the_reference_has_them(self) -> None:
        plot = ResidualPlot(DARK)
        plot.resize(300, 224)
        plot.size_px = (600, 400)
        plot.alignment = SimpleNamespace(places=np.array([[99.5, 49.5], [399.5, 299.5]]), residuals=np.array([[0.2, 0.0], [0.0, 0.1]]))
        self.assertEqual(plot.box(), QRectF(0, 0, 300, 200))
        scale = 26.0 / np.percentile([0.2, 0.1], 90)
        for (start, end), wanted in zip(plot.arrows(), ((50, 175, 0.2 * scale, 0), (200, 50, 0, -0.1 * scale))):
            np.testing.assert_allclose((start.x(), start.y(), end.x() - start.x(), end.y() - start.y()), wanted, atol=1e-9)
        dots = near(pixels(plot.grab().toImage()), DARK.color("check"), 60)
        self.assertTrue(dots[173:177, 48:52].any() and dots[48:52, 198:202].any())
        self.assertEqual(plot.unit(), 0.1)

    def test_further_stars_stand_at_their_times(self) -> None:
        plot, time, light = Plot(DARK), np.array([1.0, 2.0]), np.array([10.1, 10.2])
        series = SimpleNamespace(names=lambda role: [role[0]])
        add_stars(plot, [SimpleNamespace(name="c", told="c, shifted", magnitude=light)], series, time)
        (points,) = plot.series
        self.assertEqual((points.x.tolist(), points.y.tolist(), points.name), ([1.0, 2.0], [10.1, 10.2], "c, shifted"))

    def test_light_over_the_night_stands_in_a_star_s_row(self) -> None:
        board = QWidget()
        board.theme, board.suspects, board.curves = DARK, set(), {"a": np.full(20, 1.015), "T": np.linspace(0.7, 1.0, 20)}
        board.listed = [ListedStar("a", "comparison"), ListedStar("T", "target")]
        rows = Rows(["", "Star", "Mag", "Scatter", "Light"])
        rows.fill([("", "a", "", "", ""), ("", "T", "", "", "")], ["a", "T"])
        option, marks = QStyleOptionViewItem(), _Marks(rows, board)
        option.rect = QRect(0, 0, 200, 24)
        seen = []
        for row, token in enumerate(("comparison", "target")):
            image = QImage(200, 24, QImage.Format.Format_RGB888)
            image.fill(DARK.color("panel"))
            with QPainter(image) as painter:
                marks.paint(painter, option, rows.index(row, 4))
            seen.append(np.nonzero(near(pixels(image), DARK.color(token), 60)))
        # Steady and 1.5 of 3 per cent up; falling by its own range, which stands beside it.
        np.testing.assert_allclose((seen[0][0].min(), seen[0][0].max(), seen[0][1].min(), seen[0][1].max()), (8, 10, 3, 196), atol=2)
        self.assertGreater(seen[1][0].max() - seen[1][0].min(), 9)
        self.assertLess(seen[1][1].max(), 170)

    def test_a_group_is_dragged_by_its_key(self) -> None:
        (group,) = group_exposures([ExposureFacts("a.fits", Role.LIGHT, filter="V", exposure_s=60.0)])
        board = mock.Mock(theme=DARK)
        board.model.left_out.return_value = set()
        card = GroupCard(board, group, None)
        card.show()
        with mock.patch("ulvar.desktop.boards.intake.board.QDrag") as drag:
            QTest.mousePress(card, Qt.MouseButton.LeftButton, pos=QPoint(20, 20))
            QTest.mouseMove(card, QPoint(22, 20))
            self.assertFalse(drag.called, "a shaking hand drags nothing")
            QTest.mouseMove(card, QPoint(90, 30))
        self.assertEqual(bytes(drag.return_value.setMimeData.call_args.args[0].data(_MIME).data()), group.key.encode())
        self.assertIs(board.dragged, group)
        board.pick.assert_called_once_with(group)
        card.deleteLater()


class Words(unittest.TestCase):
    def test_which_radius_was_taken_of_those_that_were_tried(self) -> None:
        values = {
            "radius": 1.5,
            "why": "scatter",
            "tried": [{"radius": r, "scatter": s, "target_snr": None} for r, s in ((1.5, 0.002), (2, 0.003))],
        }
        page = mock.Mock()
        page._model.products.return_value.get.return_value.values = values
        page._model.settings.return_value.measure.in_fwhm = True
        AperturePage._tell_tried(page)
        page.tried.setVisible.assert_called_once_with(True)
        page.tried.setText.assert_called_once_with(
            "Measured with 1.5 FWHM, where the comparison stars scatter least. 1.5: 2.2 mmag; 2: 3.3 mmag."
        )

    def test_what_a_ruler_says(self) -> None:
        page = mock.Mock()
        page._axis.length_words.return_value = "2.0 h"
        for in_flux, words in ((False, "2.0 h, −0.250 mag"), (True, "2.0 h, −0.250")):
            page.model.curves.in_flux = in_flux
            self.assertEqual(LightPage._ruler_words(page, Ruler(0.0, 1.0, 0.5, 0.25, 0.01, 0.01, 3, 3)), words)

    def test_a_row_of_growth(self) -> None:
        growth = Growth("a", 3.0, np.array([3.0, 6.0, 9.0]), np.array([0.6, 0.9, 1.0]), np.array([50.0, 80.0, 40.0]), math.inf)
        self.assertEqual(_row("a", growth, 1.5), ("a", "3.00", "2.00", "65.0", "80.0", "75\xa0%"))
        self.assertEqual(_row("a", Growth("a", 3.0, growth.radius_px, growth.share, np.full(3, np.nan), 1.0), 1.5)[2:5], ("–", "–", "–"))

    def test_how_a_body_moves(self) -> None:
        summary = BodySummary(9, 1, 31.25, 286.2, False, (0.21, 0.18), (0.2, 0.19), (-0.05, 0.11), (0.02, 0.03))
        self.assertEqual(
            summary_words("Wisp", summary),
            "9 exposures: Wisp moves 31.25″ an hour at position angle 286.2°, on a straight line. About it 0.21″ and 0.18″ are left in RA and Dec; "
            "errors let expect 0.20″ and 0.19″. Measured less told: −0.05 ± 0.02″ in RA, +0.11 ± 0.03″ in Dec. 1 exposure left away: off the way.",
        )
