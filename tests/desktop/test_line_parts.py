"""The night line's span, ticks, legend, metric and series bar; and what stands there where there is nothing to draw."""

from dataclasses import replace
from datetime import timedelta
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHBoxLayout, QWidget

from tests.desktop.painted import DARK, near, pixels
from tests.desktop.scored import ScoredCase
from ulvar.desktop.line.night_line import NightLine
from ulvar.desktop.line.series_bar import SeriesBar
from ulvar.desktop.line.sky import NightSky
from ulvar.desktop.line.state import LineState
from ulvar.desktop.models.numbers import METRICS
from ulvar.engine import Failed
from ulvar.flows import Series


class Parts(ScoredCase):
    def setUp(self) -> None:
        super().setUp()
        self.bar: NightLine = self.window.line
        self.line, self.state = self.bar.line, self.bar.line.state
        self.quiet()

    def seen(self) -> np.ndarray:
        self.quiet()
        return pixels(self.line.grab().toImage())

    def columns(self, found: np.ndarray, color: QColor, within: int = 8) -> list[int]:
        """Return where a vertical line of a colour stands between the names above and the bars below."""
        plot = self.state.plot()
        strip = found[round(plot.top()) + 30 : round(plot.bottom()) - 24]
        return np.flatnonzero(near(strip, color, within).mean(axis=0) > 0.4).tolist()

    def test_the_axis_holds_the_lights_and_what_was_taken_near_them(self) -> None:
        lights = self.model.lights()[:5]
        start = lights[0].start_utc
        assert start is not None
        hours = [replace(f, start_utc=start + timedelta(hours=3 * k)) for k, f in enumerate(lights)]

        def span(calibration_hours: float, station: str) -> tuple[float, float]:
            early = replace(lights[0], path="dark.fits", start_utc=start - timedelta(hours=calibration_hours))
            model = SimpleNamespace(station=station, exposures=lambda: [early, *hours], lights=lambda: hours)
            low, high = LineState(model)._find_span()  # type: ignore[arg-type]
            return (low - start.timestamp()) / 3600, (high - start.timestamp()) / 3600

        # Twelve hours, and four per cent of what is shown on either side.
        self.assertEqual(span(2, "combine"), (-0.48, 12.48))
        np.testing.assert_allclose(span(2, "intake"), (-2 - 0.56, 12 + 0.56))
        # Darks of days before would press the night together.
        self.assertEqual(span(100, "masters"), (-0.48, 12.48))

    def test_hours_have_a_line_each_and_their_time_below_it(self) -> None:
        low, _ = self.state.span()
        first = 3600 * (low // 3600)
        plot = self.state.plot()
        for hours, step in ((2.9, 0.25), (5.0, 0.5), (11.0, 1.0), (23.0, 2.0)):
            with mock.patch.object(self.state, "span", return_value=(first, first + 3600 * hours)):
                self.model.drop()
                found = self.seen()
                wanted = [self.state.x(first + 3600 * step * k) for k in range(1, round(hours / step))]
                # The time of the current exposure has its place.
                facts = self.model.facts(self.model.current)
                assert facts is not None and facts.start_utc is not None
                flag = self.state.x(facts.start_utc.timestamp())
                wanted = [x for x in wanted if plot.left() + 16 < x < plot.right() - 100 and abs(x - flag) >= 56]
                there = self.columns(found, DARK.color("grid"))
                # Beside them there are none, where no twilight has their tone.
                self.assertGreater(np.mean([min(abs(t - x) for t in there) < 2 for x in wanted]), 0.8, hours)
                if hours < 12:
                    self.assertGreater(np.mean([min(abs(t - x) for x in wanted) < 2 for t in there]), 0.8, hours)
                for x in wanted:
                    top, left = round(plot.bottom()), round(x) - 20
                    rows, _ = np.nonzero(near(found[top - 3 : top + 26, left : left + 40], DARK.color("mute"), 50))
                    self.assertAlmostEqual(rows.mean() - 3, 12, delta=2)

    def test_words_stand_where_there_is_nothing_to_draw(self) -> None:
        timeless = [replace(f, start_utc=None) for f in self.model.exposures()]
        for exposures in ([], timeless):
            with mock.patch.object(type(self.model), "exposures", lambda _, found=exposures: found):
                plot = self.state.plot()
                found = self.seen()[round(plot.top()) : round(plot.bottom()), round(plot.left()) : round(plot.right())]
            rows, columns = np.nonzero(near(found, DARK.color("mute"), 30))
            self.assertGreater(len(rows), 100)
            self.assertLess(np.abs(found.max(axis=(0, 1)) - np.array(DARK.color("mute").getRgb()[:3])).max(), 12)
            self.assertAlmostEqual(rows.mean(), found.shape[0] / 2, delta=4)
            self.assertAlmostEqual(columns.mean(), found.shape[1] / 2, delta=12)

    def test_what_cannot_be_read_stands_between_its_neighbours(self) -> None:
        lights, times = sorted(self.model.lights(), key=lambda f: f.path), self.state.times()
        before = self.seen()
        broken = Failed("it is cut off", file=lights[12].path + "z")
        with mock.patch.object(type(self.model), "failed", lambda _: [broken]):
            found = self.seen()
        x = self.state.x((times[lights[12].path] + times[lights[13].path]) / 2)
        y = self.state.plot().bottom() - 12
        rows, columns = np.nonzero(near(found, DARK.color("block"), 60) & (np.abs(found - before).max(axis=-1) > 20))
        self.assertGreater(len(rows), 8)
        self.assertAlmostEqual(columns.mean(), x, delta=1)
        self.assertAlmostEqual(rows.mean(), y, delta=1)

    def test_legend_and_dots_tell_what_is_ruled_out_and_nothing_that_is_not_there(self) -> None:
        entries = self.bar.legend.entries()
        self.assertEqual([row[0] for row in entries if row[1]], [row[0] for row in entries])
        self.assertNotIn("other", {row[0] for row in entries}, "the night has one series")
        self.model.set_station("intake")
        self.assertTrue(all(count for _, count, _ in self.bar.legend.entries()), "nothing was left out by hand")
        self.model.set_station("combine")
        path = self.model.lights()[4].path
        with mock.patch.object(self.model.looking, "stack_plan", return_value=([], {path: "too wide"})):
            self.model.drop()
            self.assertEqual(next(d[3] for d in self.state.dots() if d[0] == path), "ruled")
        self.model.drop()
        self.seen()
        facts = next(f for f in self.model.lights() if f.site and f.ra_deg is not None)
        sky = NightSky()
        sky.follow(facts, *self.state.span())
        np.testing.assert_array_equal(self.state.sky.sun, sky.sun)
        self.assertEqual(self.state.moon_words, sky.moon_words)

    def test_the_metric_is_chosen_by_its_name(self) -> None:
        box = self.bar.metric_box
        self.assertEqual([box.itemText(k) for k in range(box.count())], [METRICS[box.itemData(k)][0] for k in range(box.count())])
        other = next(k for k in range(box.count()) if box.itemData(k) != self.model.numbers.metric)
        box.setCurrentIndex(other)
        box.activated.emit(other)
        self.quiet()
        self.assertEqual(self.model.numbers.metric, box.itemData(other))
        self.assertEqual(box.currentIndex(), other)

    def test_series_that_fit_have_a_button_and_the_others_a_menu(self) -> None:
        one = self.model.all_series()[0]
        many = [Series(f"s{k}", f"Field {k}, V", one.field, "V", {}, one.members) for k in range(9)]
        for series in (many[:1], many):
            with (
                mock.patch.object(type(self.model), "all_series", lambda _, found=series: found),
                mock.patch.object(type(self.model), "chosen_series", lambda _, found=series: found[len(found) // 3]),
            ):
                window = QWidget(self.window)
                bar = SeriesBar(self.model)
                row = QHBoxLayout(window)
                row.setContentsMargins(0, 0, 0, 0)
                row.addWidget(bar)
                window.show()
                for width in (300, 700, 1600):
                    window.setFixedWidth(width)
                    self.quiet()
                    shown = [b for b in bar.buttons.values() if b.isVisible()]
                    chosen = series[len(series) // 3]
                    self.assertTrue(bar.buttons[chosen.key].isVisible())
                    right = max(b.geometry().right() for b in shown) if bar.more.isHidden() else bar.more.geometry().right()
                    self.assertLess(right, width)
                    self.assertTrue(all(b.width() >= b.sizeHint().width() for b in shown), "a button is cut")
                    self.assertEqual(bar.more.isHidden(), len(shown) == len(series))
                    # No room is left that the next one would have fitted into.
                    if len(shown) < len(series):
                        self.assertGreater(right + shown[0].width() + 40, width)
                        bar.more.menu().aboutToShow.emit()
                        self.assertEqual(len(bar.more.menu().actions()), len(series) - len(shown))
                    self.assertEqual([b.isChecked() for b in bar.buttons.values()], [s is chosen for s in series])
                    self.assertEqual({b.isEnabled() for b in shown}, {len(series) > 1})
                    lefts = [b.geometry().left() for b in bar.buttons.values() if b.isVisible()]
                    self.assertEqual(lefts, sorted(lefts))
                    self.assertLess(bar.heading.geometry().right(), lefts[0])
