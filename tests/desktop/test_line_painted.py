"""The night line is painted where its numbers say: dots, axes, twilight, Moon, airmass, spans, brush, flag; against pixels."""

import math
from datetime import UTC, datetime

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.desktop.painted import DARK, near, pixels
from tests.desktop.scored import ScoredCase
from ulvar.desktop.line.sky import LANE, NightSky
from ulvar.inspection import Mend, notice
from ulvar.lightcurves import airmass_at, moon_at, sun_altitude_deg


class Painted(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.line = self.window.line.line
        self.state = self.line.state
        self.quiet()

    def seen(self) -> np.ndarray:
        self.quiet()
        return pixels(self.line.grab().toImage())

    def around(self, found: np.ndarray, x: float, y: float, reach: int = 3) -> np.ndarray:
        return found[round(y) - reach : round(y) + reach + 1, round(x) - reach : round(x) + reach + 1]

    def test_a_dot_is_where_its_time_and_its_number_are(self) -> None:
        values = self.model.numbers.metric_values("fwhm_px")
        times = self.state.times()
        low, high = self.state.span()
        plot = self.state.plot()
        bottom, top = self.state.range()
        found = self.seen()
        seen = 0
        for path, x, y, kind in self.state.dots():
            self.assertAlmostEqual(x, plot.left() + (times[path] - low) / (high - low) * plot.width(), places=6)
            share = (values[path] - bottom) / (top - bottom)
            self.assertAlmostEqual(y, plot.bottom() - 12 - share * (plot.bottom() - 12 - plot.top() - LANE), places=6)
            if kind == "kept" and path != self.model.current:
                seen += 1
                self.assertTrue(near(self.around(found, x, y, 1), DARK.color("text")).all(), path)
        self.assertGreater(seen, 20)
        # All times lie within, with a margin on either side; larger numbers stand higher.
        self.assertLess(low, min(times.values()) - 500)
        self.assertGreater(high, max(times.values()) + 500)
        widest = max(values, key=lambda p: values[p])
        self.assertEqual(min(self.state.dots(), key=lambda d: d[2])[0], widest)

    def test_kinds_of_dots_look_as_they_should(self) -> None:
        lights = [f.path for f in self.model.lights()]
        kept = [d[0] for d in self.state.dots() if d[3] == "kept" and d[0] != self.model.current]
        self.model.leave_out([kept[3]], "by hand")
        found = self.seen()
        at = {d[0]: d for d in self.state.dots()}
        _, x, y, kind = at[kept[3]]
        self.assertEqual(kind, "left_out")
        ring = self.around(found, x, y, 5)
        self.assertGreater(near(ring, DARK.color("off")).sum(), 8)
        # Struck through from below left to above right, hollow beside the stroke.
        ground = np.array(DARK.color("plot").getRgb()[:3])
        ink = {(dx, dy): int(np.abs(self.around(found, x + dx, y + dy, 1) - ground).sum()) for dx in (-4, 4) for dy in (-4, 4)}
        self.assertGreater(min(ink[-4, 4], ink[4, -4]), 3 * max(ink[-4, -4], ink[4, 4]))
        marked = [d for d in self.state.dots() if d[3] == "finding" and d[0] != self.model.current]
        if marked:
            _, x, y, _ = marked[0]
            for dx, dy in ((5.6, 0), (-5.6, 0), (0, 5.6), (0, -5.6)):
                self.assertTrue(near(self.around(found, x + dx, y + dy, 1), DARK.color("check"), 80).any())
        self.assertEqual(len(at), len(lights))

    def test_the_current_exposure_has_a_line_a_ring_and_its_time(self) -> None:
        path = self.model.lights()[20].path
        self.model.set_current(path)
        found = self.seen()
        dot = next(d for d in self.state.dots() if d[0] == path)
        plot = self.state.plot()
        column = near(found[:, round(dot[1])], DARK.color("cur"), 60) | near(found[:, round(dot[1]) - 1], DARK.color("cur"), 60)
        self.assertGreater(column[round(plot.top()) + 22 : round(plot.bottom())].mean(), 0.7)
        for dx, dy in ((6, 0), (-6, 0), (0, 6), (0, -6)):
            self.assertTrue(near(self.around(found, dot[1] + dx, dot[2] + dy, 1), DARK.color("cur"), 90).any())
        flag = found[round(plot.bottom()) + 4 : round(plot.bottom()) + 18]
        columns = np.flatnonzero(near(flag, DARK.color("accent"), 30).mean(axis=0) > 0.5)
        self.assertAlmostEqual(columns.mean(), dot[1], delta=4)
        self.assertLess(abs(np.ptp(columns) - 64), 4)

    def test_axes_stand_at_round_numbers(self) -> None:
        found = self.seen()
        plot = self.state.plot()
        ticks = self.state.value_ticks()
        self.assertGreaterEqual(len(ticks), 2)
        low, high = self.state.range()
        for y, text in ticks:
            value = float(text.split()[0].replace("−", "-"))
            self.assertAlmostEqual(self.state.y(value), y, places=6)
            self.assertTrue(low <= value <= high)
            self.assertEqual(text.split()[1], "px")
            row = near(
                found[round(y) - 1 : round(y) + 2, round(plot.left()) + 5 : round(plot.right()) - 5], DARK.color("grid"), 14,
            )  # fmt: skip
            self.assertGreater(row.any(axis=0).mean(), 0.5, text)
        # Whole hours have a line of the grid.
        begin, end = self.state.span()
        hours = list(range(int(begin // 3600) + 1, int(end // 3600) + 1))
        current = self.model.facts(self.model.current).start_utc.timestamp()
        checked = 0
        for hour in hours:
            x = self.state.x(hour * 3600)
            if plot.left() + 16 < x < plot.right() - 100 and abs(x - self.state.x(current)) > 60:
                strip = found[round(plot.top()) + 30 : round(plot.bottom()) - 20, round(x) - 1 : round(x) + 2]
                checked += near(strip, DARK.color("grid"), 14).any(axis=1).mean() > 0.4
        self.assertGreater(checked, 1)

    def test_a_finding_has_its_word_and_a_bar_over_its_exposures(self) -> None:
        lights = [f.path for f in self.model.lights()]
        span = lights[10:14]
        self.model.night.set_findings(
            "combine", [notice("cloud", "Cloud", "Lost light.", span, mend=Mend.leave_out(span))],
            self.model.chosen_series().key,
        )  # fmt: skip
        self.model.drop()
        self.model.findings_changed.emit()
        found = self.seen()
        plot = self.state.plot()
        (run,) = self.state.runs(span)
        bar = near(found[round(plot.top()) + 15 : round(plot.top()) + 17], DARK.color("check"), 40).all(axis=0)
        columns = np.flatnonzero(bar)
        self.assertAlmostEqual(columns.min(), run[0] - 6, delta=1.5)
        self.assertAlmostEqual(columns.max() + 1, run[1] + 6, delta=1.5)
        mark = found[round(plot.top()) : round(plot.top()) + 14, round(run[0]) - 7 : round(run[0]) + 7]
        self.assertGreater(near(mark, DARK.color("check"), 60).sum(), 10, "a triangle where it begins")
        word = found[round(plot.top()) : round(plot.top()) + 14, round(run[0]) + 9 : round(run[0]) + 40]
        self.assertGreater(near(word, DARK.color("text"), 60).sum(), 20)

    def test_a_selection_is_drawn_from_its_first_to_its_last(self) -> None:
        lights = [f.path for f in self.model.lights()]
        before = self.seen()
        self.model.set_brush(lights[5:12])
        found = self.seen()
        plot = self.state.plot()
        times = self.state.times()
        first, last = self.state.x(times[lights[5]]) - 5, self.state.x(times[lights[11]]) + 5
        row = round(plot.bottom()) - 4
        changed = np.flatnonzero(np.abs(found[row] - before[row]).max(axis=-1) > 6)
        self.assertAlmostEqual(changed.min(), first, delta=3)
        self.assertAlmostEqual(changed.max() + 1, last, delta=3)
        # A veil: what lies below shows through.
        middle, veil = round((first + last) / 2), np.array(DARK.color("cur").getRgb()[:3])
        np.testing.assert_allclose(found[row, middle], before[row, middle] + 0.16 * (veil - before[row, middle]), atol=3)
        for edge in (first, last):
            grip = found[round(plot.center().y()) - 8 : round(plot.center().y()) + 8, round(edge)]
            self.assertTrue(near(grip, DARK.color("cur"), 40).all())

    def test_clicks_and_drags_find_what_is_under_them(self) -> None:
        dots = self.state.dots()
        self.click(self.line, dots[8][1], dots[8][2])
        self.assertEqual(self.model.current, dots[8][0])
        QTest.mousePress(self.line, Qt.MouseButton.LeftButton, pos=self.line.rect().topLeft() + self._at(dots[3][1] - 3, 40))
        for x in (dots[5][1], dots[9][1] + 3):
            QTest.mouseMove(self.line, self._at(x, 40))
            QApplication.processEvents()
        QTest.mouseRelease(self.line, Qt.MouseButton.LeftButton, pos=self._at(dots[9][1] + 3, 40))
        self.assertEqual(list(self.model.brushed), [d[0] for d in dots[3:10]])

    @staticmethod
    def _at(x: float, y: float):  # type: ignore[no-untyped-def]
        from PySide6.QtCore import QPoint

        return QPoint(round(x), round(y))


class Sky(ScoredCase):
    """Twilight, Moon and airmass behind the dots."""

    def setUp(self) -> None:
        super().setUp()
        self.facts = next(f for f in self.model.lights() if f.site and f.ra_deg is not None)
        self.sky = NightSky()
        # From the afternoon before to the noon after: all tones, rise and set.
        middle = self.facts.start_utc.timestamp()
        self.low, self.high = middle - 8 * 3600, middle + 14 * 3600
        self.sky.follow(self.facts, self.low, self.high)
        self.plot = QRectF(10, 10, 880, 150)

    def paint(self, name: str) -> np.ndarray:
        image = QImage(900, 170, QImage.Format.Format_RGB32)
        image.fill(DARK.color("plot"))
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        getattr(self.sky, f"paint_{name}")(painter, DARK, self.plot)
        painter.end()
        return pixels(image)

    def moments(self) -> tuple[np.ndarray, np.ndarray]:
        stamps = np.linspace(self.low, self.high, 45)[1:-1]
        x = self.plot.left() + (stamps - self.low) / (self.high - self.low) * self.plot.width()
        return stamps, x

    def test_twilight_has_four_tones_where_the_sun_stands(self) -> None:
        found = self.paint("twilight")
        stamps, x = self.moments()
        sun = sun_altitude_deg([datetime.fromtimestamp(s, UTC) for s in stamps], self.facts.site)
        ground, edge = (np.array(DARK.color(t).getRgb()[:3], float) for t in ("plot", "edge"))
        tones = set()
        for place, altitude in zip(x, sun):
            # Away from the border between two tones.
            if min(abs(altitude - b) for b in (0, -6, -12, -18)) < 1.2:
                continue
            tone = 0.0 if altitude < -18 else 0.16 if altitude < -12 else 0.34 if altitude < -6 else 0.55 if altitude < 0 else 0.8
            tones.add(tone)
            wanted = ground + 0.42 * tone * (edge - ground)
            np.testing.assert_allclose(found[60, round(place)], wanted, atol=3)
        self.assertEqual(len(tones), 5)

    def test_twilights_end_at_six_twelve_and_eighteen_degrees(self) -> None:
        stamps = np.arange(self.low, self.high, 60.0)
        sun = sun_altitude_deg([datetime.fromtimestamp(s, UTC) for s in stamps], self.facts.site)
        falling = np.flatnonzero((sun[:-1] < 3) & (sun[:-1] > -21) & (np.diff(sun) < 0))
        self.low, self.high = float(stamps[falling[0]]), float(stamps[falling[-1]])
        self.sky.follow(self.facts, self.low, self.high)
        row = self.paint("twilight")[60, 10:890]
        for below, tones in ((0.0, (0.8, 0.55)), (-6.0, (0.55, 0.34)), (-12.0, (0.34, 0.16)), (-18.0, (0.16, 0.0))):
            x = round(float(np.interp(below, sun[falling][::-1], stamps[falling][::-1]) - self.low) / (self.high - self.low) * 880)
            ground, edge = (np.array(DARK.color(t).getRgb()[:3], float) for t in ("plot", "edge"))
            # A border lies within two of the span's moments, some five pixels each, of where it is.
            for place, tone in zip((x - 12, x + 12), tones):
                np.testing.assert_allclose(row[place], ground + 0.42 * tone * (edge - ground), atol=3, err_msg=f"{below} {tone}")

    def test_the_moon_runs_from_the_horizon_to_the_zenith(self) -> None:
        found = self.paint("moon")
        stamps, x = self.moments()
        altitude, lit = moon_at([datetime.fromtimestamp(s, UTC) for s in stamps], self.facts.site)
        drawn = np.abs(found - np.array(DARK.color("plot").getRgb()[:3])).max(axis=-1) > 12
        floor, tall = self.plot.bottom() - 1, self.plot.height() - LANE - 14
        seen = 0
        for place, height in zip(x, altitude):
            rows = np.flatnonzero(drawn[:, round(place) - 4 : round(place) + 5].any(axis=1))
            if height < -3:
                self.assertEqual(len(rows), 0, "below the horizon there is none")
            elif height > 4 and len(rows):
                seen += 1
                self.assertAlmostEqual(rows.mean(), floor - tall * height / 90, delta=4)
        self.assertGreater(seen, 5)
        self.assertIn(f"{100 * lit[int(np.argmax(altitude))]:.0f}", self.sky.moon_words)

    def test_airmass_has_its_scale_and_falls_with_height(self) -> None:
        found = self.paint("airmass")
        stamps, x = self.moments()
        mass = airmass_at([datetime.fromtimestamp(s, UTC) for s in stamps], self.facts.ra_deg, self.facts.dec_deg, self.facts.site)
        drawn = np.abs(found[:, : round(self.plot.right())] - np.array(DARK.color("plot").getRgb()[:3])).max(axis=-1) > 12
        places = []
        for place, value in zip(x, mass):
            rows = np.flatnonzero(drawn[:, round(place) - 5 : round(place) + 6].any(axis=1))
            if math.isfinite(value) and value < 2.0 and len(rows):
                places.append((float(value), float(rows.mean())))
        self.assertGreater(len(places), 8)
        # One straight scale from airmass to height on the plot, 1 at the top.
        values, rows = np.array(places).T
        slope, offset = np.polyfit(values, rows, 1)
        self.assertGreater(slope, 10)
        self.assertLess(np.abs(rows - (slope * values + offset)).max(), 4)
        self.assertLess(slope + offset, self.plot.top() + LANE + 8)
