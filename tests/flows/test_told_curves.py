"""Figures, reports, and exchange forms of light curves: what stands in them, and what they refuse."""

import math
from dataclasses import replace
from functools import cache
from types import SimpleNamespace
from unittest import mock

import numpy as np
from matplotlib.axes import Axes
from tools.cases import FolderCase

from ulvar.engine import Failed, OutputExists
from ulvar.flows import (
    CurveOptions,
    CurveResult,
    ExchangeError,
    ExchangeFacts,
    FigureStyle,
    ReportFacts,
    ShownStar,
    exchange_text,
    figure_bytes,
    further_stars,
    make_curve,
    other_series,
    write_differences,
    write_exchange,
    write_figure,
    write_report,
)
from ulvar.flows.beneath import relative_magnitudes
from ulvar.inspection import notice
from ulvar.lightcurves import Ephemeris, fit_ephemeris, transit_dimming
from ulvar.photometry import SeriesRow, SeriesTable

JD = 2461448.0


def series(comparisons: int = 2) -> SeriesTable:
    """Return a table of a star with a transit."""
    rng = np.random.default_rng(1)
    time = JD + np.linspace(0, 0.2, 80)
    dimming = transit_dimming(time, JD + 0.1, 0.09, 0.12, 0.3, (0.4, 0.25))
    rows = []
    for k, jd in enumerate(time):
        stars = [("T, <b>", "target", 4e4 * 10 ** (-0.4 * dimming[k])), ("k", "check", 3e4)]
        stars += [(f"c{n}", "comparison", 5e4 + 1e4 * n) for n in range(comparisons)]
        for name, role, flux in stars:
            rows.append(
                SeriesRow(
                    file=f"e{k}.fits", time_utc_mid=None, jd_utc=float(jd), bjd_tdb=float(jd) + 0.003, name=name, role=role, x=5.0, y=6.0,
                    flux=float(flux * (1 + rng.normal(0, 0.001))), flux_error=40.0, sky=100.0, sky_error=0.1, peak=500.0, fwhm_px=3.0,
                    airmass=1.2 + 0.001 * k, flags=64 if k == 7 else 0, radius_px=5.0, inner_px=9.0, outer_px=15.0, ra=115.5, dec=41.3,
                )
            )  # fmt: skip
    return SeriesTable(rows)


@cache
def result(model: str = "transit", comparisons: int = 2) -> CurveResult:
    """Return its fitted curve."""
    made = make_curve(series(comparisons), CurveOptions(model=model, detrend=("airmass",)))
    assert not isinstance(made, Failed), made
    return made


class Under(FolderCase):
    """Further stars and filters under a curve: where they stand, and that figures show them there."""

    def test_stars_stand_clear_of_what_is_above_them(self) -> None:
        table, made = series(), result()
        curve = made.curve
        plain = relative_magnitudes("k", table, curve)
        # A check star is told by the same comparisons as the target.
        light = np.array([row.flux for row in table.star("k")]) / sum(
            np.array([row.flux for row in table.star(name)]) for name in ("c0", "c1")
        )
        self.assertLess(np.nanstd(plain + 2.5 * np.log10(light)), 2e-4)
        found = further_stars(table, curve, {"k": ShownStar(), "c0": ShownStar(times=3.0), "nobody": ShownStar(), curve.name: ShownStar()})
        self.assertEqual([one.name for one in found], ["k", "c0"])
        top = np.nanmax(curve.magnitude)
        for one in found:
            low, high = np.nanpercentile(one.magnitude, (2, 98))
            self.assertAlmostEqual(low - top, 0.04, places=9)
            top = high
        of_others = relative_magnitudes("c0", table, curve)
        np.testing.assert_allclose(relative_magnitudes("c1", table, curve), -of_others, atol=1e-9)
        self.assertAlmostEqual(np.nanstd(found[1].magnitude), 3 * np.nanstd(of_others), places=9)
        self.assertIn("3 times as large", found[1].told)
        shift = np.nanmedian(found[0].magnitude) - np.nanmedian(plain)
        self.assertEqual(found[0].told, f"k, shifted by {shift:+.2f} mag".replace("-", "−"))
        (asked,) = further_stars(table, curve, {"k": ShownStar(shift_mag=-0.25)})
        np.testing.assert_allclose(asked.magnitude, plain - 0.25)
        self.assertIn("shifted by −0.25 mag", asked.told)

    def test_filters_stand_as_far_apart_as_they_need_or_as_is_asked(self) -> None:
        curve = result().curve
        other = replace(curve, magnitude=curve.magnitude + 3.0)
        reach = np.ptp(np.nanpercentile(curve.magnitude, (2, 98)))
        for apart, step in ((None, 1.2 * reach), (0.5, 0.5)):
            found = other_series(curve.magnitude, [("B-1", other), ("R-2", other)], apart)
            for k, one in enumerate(found, 1):
                np.testing.assert_allclose(one.magnitude, curve.magnitude + k * step, atol=1e-9)
                # A name keeps its hyphen.
                self.assertIn(f"{'BR'[k - 1]}-{k}, shifted by −{3 - k * step:.2f} mag", one.told)

    def test_figures_show_them(self) -> None:
        table, made = series(), result()
        under = further_stars(table, made.curve, {"k": ShownStar(), "c1": ShownStar(times=2.0)})
        style = FigureStyle(others=("#123456", "#654321"), residuals=False)
        svg = figure_bytes(made, style, "svg", beneath=under).decode()
        for one, colour in zip(under, ("#123456", "#654321")):
            self.assertIn(one.told, svg)
            self.assertGreater(svg.count(colour), len(made.curve) - 5)
        self.assertNotIn("shifted", figure_bytes(made, replace(style, beneath=False), "svg", beneath=under).decode())

    def test_no_words_lie_on_points_or_on_others(self) -> None:
        """Numbers of the model, names and legend stand outside of the frames, in narrow figures, too."""
        from matplotlib.figure import Figure

        made = result()
        under = further_stars(series(), made.curve, {"k": ShownStar(), "c1": ShownStar(times=2.0)})
        kept: list[Figure] = []
        for width in (8.8, 18.0):
            with mock.patch.object(Figure, "savefig", autospec=True, side_effect=lambda figure, *_, **__: kept.append(figure)):
                figure_bytes(made, FigureStyle(width_cm=width), "png", beneath=under)
            figure = kept.pop()
            figure.canvas.draw()
            frames = [axes.get_window_extent() for axes in figure.axes]
            self.assertIn("ratio of radii", figure.axes[0].get_title(loc="right"))
            texts = [
                figure.axes[0]._right_title, figure._suptitle, figure.legends[0], *(axes.yaxis.label for axes in figure.axes),
            ]  # fmt: skip
            boxes = [text.get_window_extent() for text in texts]
            for k, box in enumerate(boxes):
                self.assertFalse(any(box.overlaps(frame) for frame in frames), (width, texts[k]))
                self.assertFalse(any(box.overlaps(other) for other in boxes[k + 1 :]), (width, texts[k]))
                self.assertGreaterEqual(box.x0, 0)
                self.assertLessEqual(box.x1, figure.bbox.x1)

    def test_their_places_along_each_axis(self) -> None:
        table, made = series(), result()
        under = further_stars(table, made.curve, {"k": ShownStar(), "c1": ShownStar(times=2.0)})
        style = FigureStyle(others=("#123456", "#654321"), residuals=False)
        time, jd = made.curve.time, made.curve.jd_utc
        for axis, x in (
            ("hours", 24 * (time - time.min())), ("phase", (time - JD) / 0.15 % 1),
            ("BJD_TDB", time - np.floor(time.min())), ("JD_UTC", jd - np.floor(jd.min())),
        ):  # fmt: skip
            with (
                mock.patch.object(Axes, "errorbar", autospec=True, side_effect=Axes.errorbar) as drawn,
                mock.patch.object(Axes, "plot", autospec=True, side_effect=Axes.plot) as lines,
            ):
                figure_bytes(made, replace(style, axis=axis, period_d=0.15, epoch=JD), "png", beneath=under)
            # The curve first, then what stands under it.
            good = made.curve.good
            np.testing.assert_allclose(drawn.call_args_list[1].args[1], x[good])
            np.testing.assert_allclose(drawn.call_args_list[1].args[2], under[0].magnitude[good])
            model = next(call.args[1] for call in lines.call_args_list if len(call.args[1]) == 800)
            np.testing.assert_allclose((model.min(), model.max()), (0, 1) if axis == "phase" else (x[good].min(), x[good].max()), atol=2e-6)
        for text, words in (("others = ['nocolour']", "others is no colour"), ("others = []", "there is none")):
            with self.assertRaisesRegex(ValueError, words):
                FigureStyle.from_toml(text)


class Figures(FolderCase):
    def test_each_format_and_the_same_twice(self) -> None:
        made = result()
        for ending, start in ((".pdf", b"%PDF"), (".svg", b"<?xml"), (".png", b"\x89PNG")):
            path = self.folder / f"f{ending}"
            write_figure(path, made)
            self.assertTrue(path.read_bytes().startswith(start))
            with (
                self.assertRaises(OutputExists),
                mock.patch("ulvar.flows.figure.figure_bytes", side_effect=AssertionError("drawn for nothing")),
            ):
                write_figure(path, made)
        svg = (self.folder / "f.svg").read_text()
        for words in ("BJD (TDB) − 2461448, d", "target − comparisons, mag", "left,", "mmag", "depth", "ratio of radii"):
            self.assertIn(words, svg)
        self.assertIn("T, &lt;b&gt;", svg)
        for ending in ("pdf", "svg", "png"):
            self.assertEqual((self.folder / f"f.{ending}").read_bytes(), figure_bytes(made, FigureStyle(), ending))
        with self.assertRaisesRegex(ValueError, ".pdf"):
            write_figure(self.folder / "f.gif", made)

    def test_styles_are_lines_that_can_be_changed(self) -> None:
        style = FigureStyle(companions=("airmass", "sky"), axis="hours", title='a "title"', bin_min=10.0)
        self.assertEqual(FigureStyle.from_toml(style.as_toml()), style)
        self.assertEqual(FigureStyle.from_toml("title_pt = 3\ntext_pt = 3").title_pt, 3.0)
        with mock.patch.object(Axes, "errorbar", autospec=True, side_effect=Axes.errorbar) as drawn:
            svg = figure_bytes(result("none"), style, "svg").decode()
        # Means are squares, larger than the points.
        (means,) = [call.kwargs for call in drawn.call_args_list if call.kwargs["fmt"] == "s"]
        self.assertAlmostEqual(means["markersize"], 1.6 * style.point_size)
        for words in ("hours after the first exposure", "airmass", "sky,", "ADU"):
            self.assertIn(words, svg)
        phased = figure_bytes(result(), FigureStyle(axis="phase", period_d=0.15, epoch=JD + 0.1, grid=True), "svg").decode()
        self.assertIn("phase of 0.15 d", phased)
        for text, words in (
            ("points = 3", "points"), ("colour = 'red'", "no line 'colour'"), ("points = 'nocolour'", "no colour"), ("axis = 'phase'", "period_d"),
            ("axis = 'x'", "axis"), ("width_cm = 500", "width_cm"), ("companions = ['moon']", "companions"), ("width_cm =", "cannot be read"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                FigureStyle.from_toml(text)

    def test_differences_of_an_ephemeris(self) -> None:
        cycles = np.arange(0, 40, 0.5)
        found = fit_ephemeris(JD + 0.5 * cycles + 1e-6 * cycles**2, np.full(80, 1e-4), period=0.5, epoch=JD, halves=True, quadratic=True)
        assert isinstance(found, Ephemeris)
        path = self.folder / "oc.svg"
        write_differences(path, found)
        for words in ("observed less told, min", "primary", "secondary"):
            self.assertIn(words, path.read_text())
        with mock.patch.object(Axes, "errorbar", autospec=True, side_effect=Axes.errorbar) as drawn:
            with self.assertRaises(OutputExists):
                write_differences(path, found)
            self.assertEqual(drawn.call_count, 0)
            write_differences(path, found, replace=True)
        first, second = drawn.call_args_list
        self.assertEqual((first.kwargs["label"], second.kwargs["label"]), ("primary", "secondary"))
        np.testing.assert_allclose(first.args[1], cycles[::2])
        np.testing.assert_allclose(second.args[2], 1440 * found.linear_off[1::2])


class Reports(FolderCase):
    def test_html_and_pdf(self) -> None:
        made = result()
        facts = ReportFacts(
            "A night", [("Series", "V <i>")], ["Dark of 60 s."], "ulvar curve x & y",
            [notice("no_fit", "Something", "It is so.")],
        )  # fmt: skip
        page = self.folder / "r.html"
        write_report(page, made, facts, table=series())
        text = page.read_text(encoding="utf-8")
        self.assertEqual(text.count("<svg"), 1)
        assert made.fit is not None
        for words in (
            "<h1>A night</h1>", "V &lt;i&gt;", "Dark of 60 s.", "ulvar curve x &amp; y", "Something. It is so.", "T, &lt;b&gt;", "115.500000", "+41.300000",
            "Ratio of radii", f"{made.fit.values['mid']:.3f}"[:11], "5.00 px", "comparison", "Trend: airmass", "80, 79 of them count",
        ):  # fmt: skip
            self.assertIn(words, text)
        self.assertNotIn("<i>", text)
        self.assertNotIn("noise does as much", text)
        found = SimpleNamespace(period_d=0.150004, period_error_d=3e-5, method="by a sine", false_alarm=2e-4, aliases=(0.3000081,))
        write_report(self.folder / "p.html", replace(made, period=found), facts, table=series())
        rows = ("Period, d", "0.150004 ± 0.000030", "Found by", "by a sine", "as much", "0.0002", "by the sampling, d", "0.3000081")
        self.assertRegex((self.folder / "p.html").read_text(encoding="utf-8"), "(?s)" + ".*".join(rows))
        paper = self.folder / "r.pdf"
        write_report(paper, made, facts, table=series())
        self.assertTrue(paper.read_bytes().startswith(b"%PDF"))
        self.assertGreater(paper.read_bytes().count(b"/Type /Page\n") + paper.read_bytes().count(b"/Type /Page "), 0)
        with self.assertRaisesRegex(ValueError, ".html"):
            write_report(self.folder / "r.txt", made, facts)
        with (
            self.assertRaises(OutputExists),
            mock.patch("ulvar.flows.report.figure_bytes", side_effect=AssertionError("drawn for nothing")),
        ):
            write_report(paper, made, facts)
        with self.assertRaisesRegex(ValueError, "axis"):
            write_report(self.folder / "new" / "r.html", made, facts, style=FigureStyle(axis="x"))
        self.assertFalse((self.folder / "new").exists())


class Exchange(FolderCase):
    def test_variable_star_lines(self) -> None:
        curve = result("none").curve
        facts = ExchangeFacts("ABC", "T Example", "v", "k", {"e0.fits": -11.2}, "X123", "clear, calm")
        lines = exchange_text("variable-star", curve, facts).splitlines()
        head = dict(line[1:].split("=", 1) for line in lines if line.startswith("#") and "=" in line)
        self.assertEqual(
            {k: head[k] for k in ("TYPE", "OBSCODE", "DELIM", "DATE", "OBSTYPE")},
            {"TYPE": "EXTENDED", "OBSCODE": "ABC", "DELIM": ",", "DATE": "JD", "OBSTYPE": "CCD"},
        )
        names = next(line for line in lines if line.startswith("#NAME"))[1:].split(",")
        rows = [dict(zip(names, line.split(","), strict=True)) for line in lines if not line.startswith("#")]
        self.assertEqual(len(rows), 79, "the point that is left out is not told")
        first = rows[0]
        self.assertEqual({k: first[k] for k in ("NAME", "FILT", "TRANS", "MTYPE", "CNAME", "CMAG", "KNAME", "KMAG", "CHART", "NOTES")}, {
            "NAME": "T Example", "FILT": "V", "TRANS": "NO", "MTYPE": "DIF", "CNAME": "ENSEMBLE", "CMAG": "na", "KNAME": "k", "KMAG": "-11.2000",
            "CHART": "X123", "NOTES": "clear  calm",
        })  # fmt: skip
        self.assertEqual((rows[1]["KNAME"], rows[1]["KMAG"]), ("na", "na"))
        self.assertAlmostEqual(float(first["DATE"]), JD, places=6)
        self.assertAlmostEqual(float(first["MAG"]), float(curve.magnitude[0]), places=4)
        self.assertAlmostEqual(float(first["MERR"]), float(curve.magnitude_error[0]), places=4)
        alone = exchange_text("variable-star", result("none", 1).curve, facts)
        self.assertIn(",c0,", alone)
        unknown = replace(curve, magnitude_error=np.full(len(curve), math.nan))
        self.assertIn(",na,V,", exchange_text("variable-star", unknown, facts))

    def test_minor_planet_blocks(self) -> None:
        curve = result("none").curve
        facts = ExchangeFacts("A, B", "Rock|=", "Clear", number=7, contact="A", ra="07:42:10", dec="+41:18:03", phase_deg=12.345)
        lines = exchange_text("minor-planet", curve, facts).splitlines()
        begin, end = lines.index("STARTMETADATA"), lines.index("ENDMETADATA")
        head = dict(line.split("=", 1) for line in lines[begin + 1 : end])
        for key, value in {
            "OBJECTNUMBER": "7", "OBJECTNAME": "Rock", "OBJECTRA": "07:42:10", "DIFFERMAGS": "TRUE", "DELIMITER": "PIPE", "PHASE": "+12.35",
            "FILTER": "CV", "MAGBAND": "V", "OBSERVERS": "A, B", "SESSIONDATE": "2027-02-11",
        }.items():  # fmt: skip
            self.assertEqual(head[key], value, key)
        data = [line for line in lines if line.startswith("DATA=")]
        self.assertEqual(len(data), 79)
        cells = data[0][5:].split("|")
        self.assertAlmostEqual(float(cells[0]), JD, places=6)
        self.assertAlmostEqual(float(cells[1]), float(curve.magnitude[0]), places=4)
        self.assertAlmostEqual(float(cells[3]), 1.2, places=4)
        self.assertEqual(lines[-1], "ENDDATA")

    def test_what_is_required_is_asked_for(self) -> None:
        curve = result("none").curve
        for form, facts, words in (
            ("variable-star", ExchangeFacts("", " "), ("observer's code", "star's name")),
            ("minor-planet", ExchangeFacts("", ""), ("minor planet's name", "observers", "contact", "right ascension")),
        ):
            with self.assertRaises(ExchangeError) as caught:
                exchange_text(form, curve, facts)
            for word in words:
                self.assertIn(word, str(caught.exception))
        with self.assertRaisesRegex(ValueError, "no form"):
            exchange_text("letter", curve, ExchangeFacts("a", "b"))
        path = self.folder / "x.txt"
        write_exchange(path, "variable-star", curve, ExchangeFacts("ABC", "T"))
        with self.assertRaises(OutputExists):
            write_exchange(path, "variable-star", curve, ExchangeFacts("ABC", "T"))
