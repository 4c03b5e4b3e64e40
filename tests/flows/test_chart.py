"""The finder chart: what stands where on the paper, and the files."""

import math
import re
from unittest import mock

import numpy as np
from matplotlib.figure import Figure
from tools.cases import FolderCase
from tools.held import note

from tests.cli.support import Command
from ulvar.astrometry import StarCatalogue, Wcs, offset_position, tangent_to_sky
from ulvar.engine import OutputExists
from ulvar.flows import Chart, ChartMark, around, is_colour, put_solution, write_chart
from ulvar.flows.chart import _dec_text, _lines, _ra_text, angle_words, disc_size, draw_chart
from ulvar.frames import write_fits
from ulvar.photometry import ListedStar


def catalogue(places: list[tuple[float, float]], mags: list[float]) -> StarCatalogue:
    ra, dec = np.array(places).T
    none = np.zeros(len(ra))
    return StarCatalogue(ra, dec, none + 2016.0, none, none, np.array(mags))


class Paper(FolderCase):
    def test_east_is_left_and_north_up(self) -> None:
        for ra, dec in ((0.001, 20.0), (180.0, -75.0)):
            east, north = offset_position(ra, dec, 0.2, 0.0), offset_position(ra, dec, 0.0, 0.3)
            chart = Chart(
                ra, dec, 1.0, catalogue([(ra, dec), east, north, offset_position(ra, dec, 0.9, 0)], [8.0, 9.0, 10.0, 5.0]),
            )  # fmt: skip
            axes = draw_chart(chart).axes[0]
            (discs,) = [c for c in axes.collections if len(c.get_offsets()) == 3]
            places = axes.transData.transform(discs.get_offsets())
            middle, to_east, to_north = places
            self.assertLess(to_east[0], middle[0] - 30)
            self.assertAlmostEqual(to_east[1], middle[1], delta=1)
            self.assertGreater(to_north[1], middle[1] + 30)
            self.assertAlmostEqual((to_north[1] - middle[1]) / (middle[0] - to_east[0]), 1.5, delta=0.01)
            sizes = discs.get_sizes()
            self.assertTrue(sizes[0] > sizes[1] > sizes[2])

    def test_fainter_ones_are_left_away(self) -> None:
        stars = catalogue([offset_position(50.0, 10.0, 0.01 * k, 0) for k in range(8)], [8.0 + k for k in range(8)])
        axes = draw_chart(Chart(50.0, 10.0, 1.0, stars, faintest=11.0)).axes[0]
        self.assertEqual(max(len(c.get_offsets()) for c in axes.collections), 4)
        np.testing.assert_allclose(disc_size(np.array([5.0, 9.0, 20.0]), 5.0, 9.0), [100.0, 1.0, 1.0])

    def test_names_keep_clear_of_each_other(self) -> None:
        marks = [ChartMark(f"star {k}", "comparison", *offset_position(50.0, 10.0, 0.012 * (k % 2), 0.012 * (k // 2))) for k in range(4)]
        figure = draw_chart(Chart(50.0, 10.0, 1.0, catalogue([(50.0, 10.0)], [9.0]), marks))
        renderer = figure.canvas.get_renderer()
        names = [t for t in figure.axes[0].texts if t.get_text().startswith("star ")]
        self.assertEqual(len(names), 4)
        boxes = [t.get_window_extent(renderer) for t in names]
        self.assertFalse(any(a.overlaps(b) for i, a in enumerate(boxes) for b in boxes[:i]))
        # More than there is room for beside one place.
        draw_chart(Chart(50.0, 10.0, 1.0, catalogue([(50.0, 10.0)], [9.0]), [ChartMark(f"s {k}", "check", 50.0, 10.0) for k in range(7)]))

    def test_a_body_has_its_way(self) -> None:
        track = tuple((3600.0 * h, *offset_position(50.0, 10.0, 0.1 * h - 0.2, 0.05 * h)) for h in range(9))
        figure = draw_chart(Chart(50.0, 10.0, 1.0, catalogue([(50.0, 10.0)], [9.0]), bodies=[ListedStar("Wisp", "target", track=track)]))
        axes = figure.axes[0]
        way = next(line for line in axes.lines if len(line.get_xdata()) == 9)
        np.testing.assert_allclose(way.get_xdata()[:5], [-0.2, -0.1, 0, 0.1, 0.2], atol=1e-3)
        self.assertTrue(math.isnan(way.get_xdata()[8]), "it ends at the edge")
        self.assertIn("Wisp", [t.get_text() for t in axes.texts])

    def test_lines_of_round_steps_are_named_where_they_leave(self) -> None:
        for dec, side, names in (
            (10.0, 4.0, ["+9° 00′", "+10° 00′", "+11° 00′", "3h 15m", "3h 20m", "3h 25m"]),
            (-30.0, 0.5, ["−30° 10′", "−30° 00′", "−29° 50′", *(f"3h {t}s" for t in ("19m 00", "19m 30", "20m 00", "20m 30", "21m 00"))]),
            (0.0, 0.5, ["−0° 10′", "−0° 05′", "+0° 00′", "+0° 05′", "+0° 10′", *(f"3h {t}s" for t in ("19m 20", "19m 40", "20m 00", "20m 20", "20m 40"))]),
        ):  # fmt: skip
            axes = draw_chart(Chart(50.0, dec, side, catalogue([(50.0, dec)], [9.0]))).axes[0]
            self.assertEqual([t.get_text() for t in axes.texts][: len(names)], names)
        for side in np.geomspace(0.006, 60, 24):
            axes = Figure().add_subplot()
            _lines(axes, Chart(50.0, 10.0, float(side), catalogue([(50.0, 10.0)], [9.0])))
            # Every step is held.
            note("step", axes.figure)

    def test_each_name_stands_on_its_line(self) -> None:
        # Near a pole lines lean: at the other edge each is somewhere else.
        axes = draw_chart(Chart(50.0, 84.0, 6.0, catalogue([(50.0, 84.0)], [9.0]))).axes[0]
        counted = [0, 0]
        for x, y, text in ((*t.xy, t.get_text()) for t in axes.texts if re.fullmatch("[+−]?[0-9]+[h°] [0-9]+[m′]", t.get_text())):
            ra, dec = (float(v[0]) for v in tangent_to_sky(np.array([x]), np.array([y]), 50.0, 84.0))
            if text[0] in "+−":
                degrees, minutes = re.findall(r"\d+", text)
                self.assertEqual(x, 3.0)
                self.assertAlmostEqual(dec, int(degrees) + int(minutes) / 60, delta=0.005)
            else:
                hours, minutes = re.findall(r"\d+", text)
                self.assertEqual(y, -3.0)
                self.assertAlmostEqual((ra - 15 * (int(hours) + int(minutes) / 60) + 180) % 360 - 180, 0, delta=0.05)
            counted[text[0] in "+−"] += 1
        self.assertTrue(min(counted) >= 2, counted)

    def test_the_bar_is_a_round_part_of_the_side(self) -> None:
        for side, words in ((0.0224, "20″"), (0.14, "2′")):
            foot = draw_chart(Chart(50.0, 10.0, side, catalogue([(50.0, 10.0)], [9.0]))).axes[1]
            self.assertEqual(foot.texts[0].get_text(), words)
            degrees = int(words[:-1]) / {"″": 3600, "′": 60}[words[-1]]
            np.testing.assert_allclose(foot.lines[0].get_xdata(), [0, degrees / side])

    def test_lines_at_a_pole(self) -> None:
        figure = draw_chart(Chart(0.0, 89.9, 2.0, catalogue([(10.0, 89.5)], [9.0])))
        self.assertGreater(len(figure.axes[0].lines), 10)

    def test_the_outline_is_the_field(self) -> None:
        wcs = Wcs(50.0, 10.0, 199.5, 99.5, np.array([[-3.0, 0], [0, 3.0]]) / 3600)
        ra, dec, side = around(wcs, 400, 200)
        self.assertAlmostEqual(ra, 50.0)
        self.assertAlmostEqual(side, 1.15 * math.hypot(400, 200) * 3 / 3600, delta=1e-6)
        axes = draw_chart(Chart(ra, dec, side, catalogue([(50.0, 10.0)], [9.0]), outline=(wcs, 400, 200))).axes[0]
        line = next(line for line in axes.lines if len(line.get_xdata()) == 5)
        self.assertAlmostEqual(max(line.get_xdata()) - min(line.get_xdata()), 400 * 3 / 3600, delta=1e-4)

    def test_places_are_told_to_a_tenth_of_a_second(self) -> None:
        self.assertEqual([_ra_text(ra) for ra in (115.38635, 359.99999, 0.0)], ["07h 41m 32.7s", "00h 00m 00.0s", "00h 00m 00.0s"])
        self.assertEqual([_dec_text(dec) for dec in (41.69398, -0.5, 89.99999)], ["+41° 41′ 38″", "−00° 30′ 00″", "+90° 00′ 00″"])
        self.assertFalse(is_colour(str(self.folder / "a.tif")))

    def test_files(self) -> None:
        chart = Chart(50.0, 10.0, 1.0, catalogue([(50.0, 10.0), (50.1, 10.1)], [9.0, 10.0]))
        for ending, begin in ((".pdf", b"%PDF"), (".png", b"\x89PNG"), (".svg", b"<?xml")):
            path = self.folder / f"c{ending}"
            for twice in (path, self.folder / f"d{ending}"):
                write_chart(twice, chart)
            self.assertTrue(path.read_bytes().startswith(begin))
            self.assertEqual(path.read_bytes(), (self.folder / f"d{ending}").read_bytes())
            with (
                self.assertRaises(OutputExists),
                mock.patch("ulvar.flows.chart.draw_chart", side_effect=AssertionError("drawn for nothing")),
            ):
                write_chart(path, chart)
        with self.assertRaisesRegex(ValueError, "charts are written as"):
            write_chart(self.folder / "c.gif", chart)
        with self.assertRaisesRegex(ValueError, "side of a chart"):
            write_chart(self.folder / "d.pdf", Chart(50.0, 10.0, 0.0, chart.stars))
        self.assertEqual((angle_words(1.5), angle_words(0.25), angle_words(5 / 3600)), ("1.5°", "15′", "5″"))


class ChartCommand(Command):
    def test_of_an_exposure_and_of_a_place(self) -> None:
        stars = self.folder / "cat.csv"
        stars.write_text("ra,dec,mag\n" + "".join(f"{50 + 0.01 * k},{10 + 0.007 * k},{8 + k}\n" for k in range(9)))
        listed = self.folder / "list.csv"
        listed.write_text("name,role,ra,dec\nT,target,50.02,10.01\n")
        image = self.folder / "solved.fits"
        write_fits(image, np.zeros((60, 80), dtype=np.float32))
        put_solution(image, Wcs(50.0, 10.0, 40.0, 30.0, np.array([[-9.0, 0], [0, 9.0]]) / 3600), "made")
        out = self.folder / "a.png"
        code, body = self.json("chart", image, "--catalogue", stars, "--stars", listed, "--out", out)
        self.assertEqual((code, body["output"]), (0, str(out)))
        self.assertAlmostEqual(body["ra"], 50.0, delta=0.01)
        self.assertTrue(out.read_bytes().startswith(b"\x89PNG"))
        code, _, error = self.ulvar("chart", image, "--catalogue", stars, "--out", out)
        self.assertEqual((code, "it is kept" in error), (2, True))
        code, _, _ = self.ulvar("chart", "--at", "50,10", "--width", "0.5", "--catalogue", stars, "--out", self.folder / "b.pdf")
        self.assertEqual(code, 0)
        for words, told in (
            ((), "of one of them"), (("--at", "50,10", "--width", "200"), "up to 90"), (("--at", "x"), "not RA,DEC"),
            ((image, "--catalogue", self.folder / "none.csv"), "none.csv"), (("--at", "50,10", "--bodies", listed), "no star in it moves"),
        ):  # fmt: skip
            more = () if "--catalogue" in words else ("--catalogue", stars)
            code, _, error = self.ulvar("chart", *words, *more, "--out", self.folder / "z.pdf")
            self.assertEqual((code, told in error), (2, True), error)
        bare = self.folder / "bare.fits"
        write_fits(bare, np.zeros((60, 80), dtype=np.float32))
        code, _, error = self.ulvar("chart", bare, "--catalogue", stars, "--out", self.folder / "z.pdf")
        self.assertIn("no plate solution", error)
