"""Two fields in three filters, interleaved, all the way in the window: scores, plates, stars, fluxes, curves."""

from pathlib import Path

import numpy as np
from bench.made_series import FIELDS, HEIGHT, PER_SERIES, WIDTH
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from tools.cases import stamps

from tests.desktop.test_series import SeriesWindow
from ulvar.astrometry import Wcs, wcs_from_header
from ulvar.desktop.models.starpick import give_role
from ulvar.frames import header_of
from ulvar.photometry import read_series

SCALE_DEG = 2.0 / 3600


def field_wcs(name: str) -> Wcs:
    """Where the first exposure of a field lies: north up, east left."""
    cd = np.array([[-SCALE_DEG, 0.0], [0.0, SCALE_DEG]])
    return Wcs(*FIELDS[name], (WIDTH - 1) / 2, (HEIGHT - 1) / 2, cd)


class AllTheWay(SeriesWindow):
    def setUp(self) -> None:
        super().setUp()
        rows = []
        for name, stars in self.skies.items():
            ra, dec = field_wcs(name).sky(stars[:, 0], stars[:, 1])
            rows += [f"{a:.7f},{d:.7f},{20 - 2.5 * np.log10(f):.3f}" for a, d, f in zip(ra, dec, stars[:, 2])]
        catalogue = self.folder / "stars.csv"
        catalogue.write_text("ra,dec,mag\n" + "\n".join(rows) + "\n")
        self.model.matching.choose_catalogue(str(catalogue))
        self.model.change_settings("plate", {"scale_low": 1.5, "scale_high": 2.5})
        self.model.change_settings("curve", {"model": "none"})
        self.keys = [one.key for one in self.model.all_series()]

    def run_here(self) -> None:
        """Press the amber button and wait."""
        self.click(self.window.slip.action)
        self.idle()
        self.quiet()

    def run_all(self) -> None:
        self.key(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        self.idle()
        self.quiet()

    def choose_stars(self, field: str) -> None:
        """Click roles onto stars of a field, in one of its filters."""
        stars = self.skies[field]
        apart = np.hypot(stars[:, 0, None] - stars[:, 0], stars[:, 1, None] - stars[:, 1]) + 1e3 * np.eye(len(stars))
        alone = np.flatnonzero((apart.min(axis=1) > 14) & (stars[:, 2] < 6e4))
        shift = int(Path(self.model.current).stem) % (3 * PER_SERIES) // 3
        for k, role in zip(alone, ("target", "comparison", "comparison", "comparison", "check")):
            give_role(self.model, (stars[k, 0] + 0.7 * shift, stars[k, 1] - 0.4 * shift), role)

    def test_every_series_goes_all_the_way_and_all_results_stand_beside_each_other(self) -> None:
        model, night = self.model, self.model.night
        assert night is not None
        self.key(Qt.Key.Key_4)
        self.run_all()

        # Plates one by one, in another order than the night's; each holds for its own field.
        self.key(Qt.Key.Key_5)
        for key in (*self.keys[::2], *self.keys[1::2]):
            self.choose(key)
            self.assertIn("Solve 4 exposures", self.window.slip.action.text())
            self.run_here()
        self.assertEqual(model.jobs.series_done("plate"), (6, 6))
        self.assertEqual(len(night.products_of("plate")), 6 * PER_SERIES)
        for one in model.all_series():
            wcs = wcs_from_header(header_of(night.products_of("stack", one.key)[one.key].output))
            assert wcs is not None
            # Within the dither of the exposures, of which one is the stack's frame.
            ra, dec = wcs.sky((WIDTH - 1) / 2, (HEIGHT - 1) / 2)
            true = FIELDS[one.field.name]
            off = np.hypot((ra - true[0]) * np.cos(np.radians(true[1])), dec - true[1])
            self.assertLess(float(off), 4 * SCALE_DEG, one.title)

        # Stars of a field are chosen once, in any of its filters.
        self.key(Qt.Key.Key_6)
        self.choose("East-Field-R")
        self.choose_stars("East Field")
        self.choose("West-Field-V")
        self.choose_stars("West Field")
        self.run_all()
        self.assertEqual(model.jobs.series_done("measure"), (6, 6))
        for one in model.all_series():
            table = read_series(night.series_folder(one.key) / f"{one.key}-series.csv")
            self.assertEqual((len({row.file for row in table.rows}), len(table.names("comparison"))), (4, 3), one.title)
            (target,) = table.names("target")
            self.assertTrue(np.isfinite([row.flux for row in table.star(target)]).all())

        # Curves in a third order, from the finder; all stand beside each other.
        for key in reversed(self.keys):
            title = night.series_of(key).title.replace("·", " ")
            self.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
            QTest.keyClicks(self.window.finder.field, f"series {title}")
            QTest.keyClick(self.window.finder.field, Qt.Key.Key_Return)
            self.assertEqual(model.chosen_series().key, key)
            self.key(Qt.Key.Key_7)
            self.run_here()
        self.assertEqual(model.jobs.series_done("curve"), (6, 6))
        curves = sorted(path.parent.name for path in night.products.glob("*/*-curve.csv"))
        self.assertEqual(curves, sorted(self.keys))

        # One again, with another aperture: the others stay as they are, byte for byte.
        self.choose("East-Field-B")
        others = {path: stamp for path, stamp in stamps(night.products).items() if "East-Field-B" not in Path(path).parts}
        own = (night.series_folder("East-Field-B") / "East-Field-B-series.csv").read_bytes()
        model.change_settings("measure", {"radius": 1.2})
        self.key(Qt.Key.Key_6)
        self.run_here()
        self.key(Qt.Key.Key_7)
        self.run_here()
        self.assertNotEqual((night.series_folder("East-Field-B") / "East-Field-B-series.csv").read_bytes(), own)
        after = stamps(night.products)
        self.assertEqual({path: after.get(path) for path in others}, others)

        self.filters_together()

    def filters_together(self) -> None:
        """The curves of one field in one plot: each in its colour and shape, shifted by what its name says."""
        model, board = self.model, self.window.board_of["curve"]
        self.until(lambda: getattr(board, "together", None) is not None and board.together.isVisible(), 20, "the switch")
        self.assertEqual(len(board._plots[0].series), 2, "the curve and its check star")
        self.click(board.together)
        self.until(lambda: len(board._plots[0].series) == 3, 20, "three filters")
        shown = board._plots[0].series
        self.assertEqual([s.name.split(",")[0] for s in shown], ["B", "V", "R"])
        self.assertEqual(len({s.color.name() for s in shown}), 3)
        self.assertEqual(len({s.shape for s in shown}), 3)
        night = model.night
        for points, key in zip(shown[1:], ("East-Field-V", "East-Field-R")):
            made = np.genfromtxt(night.series_folder(key) / f"{key}-curve.csv", delimiter=",", names=True, dtype=None, encoding="utf-8")
            shift = float(points.name.split("shifted by ")[1].split(" ")[0].replace("−", "-"))
            np.testing.assert_allclose(points.y, made["magnitude"] + shift, atol=0.006)
            members = set(night.series_of(key).files)
            self.assertEqual(set(points.keys), members, "a click shows an exposure of that filter")
        # Magnitudes grow downwards: each stands under the one before it.
        middles = [float(np.median(s.y)) for s in shown]
        self.assertEqual(middles, sorted(middles))
        # Put on one line.
        board.apart.setFocus()
        board.apart.setValue(0.0)
        QTest.keyClick(board.apart, Qt.Key.Key_Return)
        self.until(lambda: np.ptp([np.median(s.y) for s in board._plots[0].series]) < 0.01, 20, "one line")
        # A click on a point of another filter goes to its exposure.
        plot = board._plots[0]
        at = plot.to_screen(float(plot.series[1].x[2]), float(plot.series[1].y[2]))
        self.click(plot, at.x(), at.y())
        self.assertEqual(model.facts(model.current).filter, "V")
        self.assertEqual(model.chosen_series().key, "East-Field-B")
