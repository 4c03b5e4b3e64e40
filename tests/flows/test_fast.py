"""Fast series: stars followed through shake and cloud, times with gaps, doubled frames, and what is found of it."""

import dataclasses
import math
import unittest
from datetime import UTC, datetime

import numpy as np
from tools.cases import FolderCase

from ulvar.engine import Failed, JobContext
from ulvar.flows import FilmSeries, FilmTiming, film_findings, film_rows, film_times, measure_film, time_occultation
from ulvar.frames import Film, FrameError, open_film
from ulvar.lightcurves import Occultation
from ulvar.photometry import ApertureOptions, ListedStar, SeriesTable, Tracker
from ulvar.simulation import MadeUpFilm, write_ser
from ulvar.stars import StarFlag

_STARS = (
    ListedStar("t", "target", x=150.0, y=121.0),
    ListedStar("a", "comparison", x=221.0, y=90.0),
    ListedStar("b", "comparison", x=80.0, y=180.0),
)
_RINGS = ApertureOptions(4.5, False)


class FastTest(FolderCase):
    """Films of the same stars, each with something of its own."""

    def _measured(self, film: MadeUpFilm, timing: FilmTiming | None = None, **how: object) -> FilmSeries:
        path = self.folder / "film.ser"
        write_ser(path, film, bits=16)
        done = measure_film(open_film([str(path)]), _STARS, JobContext(), timing=timing, aperture=_RINGS, **({"gain_e_per_adu": 1.0} | how))  # type: ignore[arg-type]
        assert isinstance(done, FilmSeries), done
        return done

    def test_light_place_and_time(self) -> None:
        film = MadeUpFilm(frames=300, out_s=5.013, back_s=6.013, clock=True, missing=(40, 41), repeated=(200,))
        done = self._measured(film)
        self.assertEqual([star.name for star in done.stars], ["t", "a", "b", "blank sky"])
        flags = done.flags
        self.assertEqual(np.flatnonzero(done.doubled).tolist(), [200])
        self.assertTrue((flags[200] & int(StarFlag.DOUBLED) != 0).all())
        # Its middle follows the field, which drifts by 6 px and jumps.
        self.assertAlmostEqual(float(done.tracked.x[-20:, 0].mean() - done.tracked.x[:20, 0].mean()), 5.6, delta=0.3)
        self.assertGreater(float(np.diff(done.tracked.x[:, 0]).std()), 0.3)
        shown = np.r_[0:100, 180:199, 201:300]
        flux = done.column(done.tracked.result.flux)
        error = done.column(done.tracked.result.flux_error)
        # Of 900 ADU in an aperture of 1.4 FWHM 99.6 %; an occulted star leaves nothing, blank sky is nothing all the time.
        for k, light in ((0, 900.0), (1, 2000.0), (2, 1200.0), (3, 0.0)):
            pulls = (flux[shown, k] - 0.996 * light) / error[shown, k]
            self.assertLess(abs(pulls.mean()), 0.25, done.stars[k].name)
            self.assertAlmostEqual(float(pulls.std()), 1.0, delta=0.12, msg=done.stars[k].name)
        self.assertTrue(np.isnan(done.light(0)[200]))
        # The transparency of a tracking star is told by the other one: its own noise stays.
        self.assertAlmostEqual(float(np.nanstd(done.light(1)) / flux[shown, 1].std()), 1.0, delta=0.15)
        gone = slice(126, 146)
        self.assertLess(abs(flux[gone, 0].mean()), 4 * error[gone, 0].mean() / math.sqrt(20))
        event = time_occultation(done)
        assert isinstance(event, Occultation), event
        begin = film.begins.timestamp()
        self.assertLess(abs(event.out_s - begin - 5.013), 4 * event.out_error_s)
        self.assertLess(abs(event.back_s - begin - 6.013), 4 * event.back_error_s)
        self.assertLess(event.out_error_s, 0.01)
        codes = {finding.code: finding for finding in film_findings(done)}
        self.assertEqual(set(codes), {"frames_missing", "frames_doubled"})
        self.assertEqual(codes["frames_missing"].evidence["gaps"], [[40, 2]])

    def test_rows_carry_times_and_roles(self) -> None:
        done = self._measured(MadeUpFilm(frames=30, out_s=90, back_s=91), FilmTiming(row_us=100.0, offset_s=0.5, stamp="end"))
        table = SeriesTable(film_rows(done))
        self.assertEqual(len(table), 120)
        self.assertEqual(table.names("comparison"), ["a", "b"])
        self.assertEqual(table.names("check"), ["blank sky"])
        for name, light in (("t", 900.0), ("a", 2000.0), ("b", 1200.0), ("blank sky", 0.0)):
            rows = table.star(name)
            self.assertAlmostEqual(float(np.mean([row.flux for row in rows])), 0.996 * light, delta=60.0, msg=name)
            self.assertGreater(float(np.std([row.flux for row in rows])), 10.0)
        first = table.star("t")[0]
        self.assertEqual(first.file, "film.ser[0]")
        # The start of the film, half a frame before its end, the delay of the camera, and 120.6 rows of 0.1 ms.
        assert first.time_utc_mid is not None
        late = (first.time_utc_mid - MadeUpFilm().begins).total_seconds()
        self.assertAlmostEqual(late, -0.02 + 0.5 + 0.0001 * first.y, places=4)
        self.assertAlmostEqual(first.jd_utc, 2461114.378611111 + late / 86400, places=8)

    def test_a_cloud_holds_the_apertures_and_is_divided_out(self) -> None:
        film = MadeUpFilm(frames=200, out_s=90, back_s=91, shake_px=0.2, drift_px=3.0)

        class Cloudy(MadeUpFilm):
            def pictures(self):  # type: ignore[no-untyped-def]
                for k, picture in enumerate(super().pictures()):
                    through = 0.02 if 80 <= k < 90 else 1.0 - 0.4 * k / 200
                    yield ((picture - self.sky) * through + np.random.default_rng(k).normal(0, 3, picture.shape) + self.sky).astype(
                        np.float32
                    )

        done = self._measured(Cloudy(**dataclasses.asdict(film)))
        self.assertEqual(np.flatnonzero(done.tracked.held).tolist(), list(range(80, 90)))
        self.assertTrue((done.flags[80:90, 1] & int(StarFlag.LOST) != 0).all())
        self.assertTrue((done.flags[80:90, 0] & int(StarFlag.LOST) == 0).all())
        self.assertLess(float(np.abs(done.tracked.x[80:90, 0] - done.tracked.x[79, 0]).max()), 1e-9)
        flux = done.column(done.tracked.result.flux)
        self.assertLess(flux[180:, 0].mean() / flux[:20, 0].mean(), 0.75)
        light = done.light(0)
        self.assertAlmostEqual(float(np.nanmean(light[170:]) / np.nanmean(light[:30])), 1.0, delta=0.06)
        self.assertIn("tracking_lost", {finding.code for finding in film_findings(done)})

    def test_a_jump_of_the_telescope_is_followed(self) -> None:
        film = MadeUpFilm(frames=60, out_s=90, back_s=91, drift_px=0.0, shake_px=0.1)

        class Jumping(MadeUpFilm):
            def pictures(self):  # type: ignore[no-untyped-def]
                for k, picture in enumerate(super().pictures()):
                    yield np.roll(picture, (14, -17), (0, 1)) if k >= 30 else picture

        done = self._measured(Jumping(**dataclasses.asdict(film)))
        self.assertFalse(done.tracked.held.any())
        self.assertAlmostEqual(float(done.tracked.x[40:, 0].mean() - done.tracked.x[:30, 0].mean()), -17, delta=0.2)
        self.assertAlmostEqual(float(done.tracked.y[40:, 0].mean() - done.tracked.y[:30, 0].mean()), 14, delta=0.2)

    def test_what_cannot_be_measured_is_told(self) -> None:
        path = self.folder / "film.ser"
        write_ser(path, MadeUpFilm(frames=20), stamps=False)
        film, context = open_film([str(path)]), JobContext()
        for stars, reason in (
            (_STARS[:1], "no tracking star"),
            (_STARS[1:], "no target"),
            ((*_STARS, ListedStar("z", "check", x=500.0, y=5.0)), "z is not in the frames"),
            ((*_STARS, ListedStar("z", "check", ra=5.0, dec=5.0)), "given by x, y"),
            (_STARS, "how fast its frames followed"),
        ):
            timing = None if stars is _STARS else FilmTiming(rate=25.0)
            failed = measure_film(film, stars, context, timing=timing, aperture=_RINGS)
            assert isinstance(failed, Failed)
            self.assertIn(reason, failed.reason)
        done = measure_film(film, _STARS, context, timing=FilmTiming(rate=25.0), aperture=_RINGS)
        assert isinstance(done, FilmSeries)
        self.assertIn("frames_undated", {finding.code for finding in film_findings(done)})
        self.assertAlmostEqual(film_rows(done)[0].jd_utc * 86400, 0.02)

    def test_a_full_tracking_star_is_flagged(self) -> None:
        path = self.folder / "film.ser"
        write_ser(path, MadeUpFilm(frames=20, stars=((150.3, 120.6, 900.0), (220.7, 90.2, 9000.0), (80.0, 180.0, 1000.0))))
        done = measure_film(open_film([str(path)]), _STARS, JobContext(), aperture=_RINGS)
        assert isinstance(done, FilmSeries)
        full = done.flags & int(StarFlag.SATURATED) != 0
        self.assertTrue(full[:, 1].all())
        self.assertFalse(full[:, [0, 2]].any())
        # The other tracking star tells the transparency alone.
        self.assertTrue(np.isfinite(done.light(0)).all())


class TimesTest(unittest.TestCase):
    """Times of frames as files tell them."""

    def _film(self, times: np.ndarray, **how: object) -> Film:
        return Film("f.ser", "SER", 10, 10, len(times), times=times, **how)  # type: ignore[arg-type]

    def test_late_stamps_are_no_gaps_and_gaps_are_counted(self) -> None:
        even = 1e9 + 0.04 * np.arange(200)
        late = even.copy()
        late[50] += 0.035
        self.assertEqual(film_times(self._film(late), FilmTiming()).missing, ())
        gap = even.copy()
        gap[120:] += 0.12
        gap[60:] += 0.04
        found = film_times(self._film(gap + np.random.default_rng(1).normal(0, 0.001, 200)), FilmTiming())
        self.assertEqual(found.missing, ((60, 1), (120, 3)))
        self.assertAlmostEqual(found.jitter_s, 0.001, delta=0.0003)
        again = even.copy()
        again[80] = again[79]
        self.assertEqual(film_times(self._film(again), FilmTiming()).still, (80,))

    def test_what_the_user_tells_goes_first(self) -> None:
        film = self._film(np.full(50, math.nan), rate=25.0)
        begin = datetime(2026, 3, 14, 21, 0, tzinfo=UTC)
        found = film_times(film, FilmTiming(first=begin, exposure_s=0.02))
        self.assertTrue(found.dated)
        np.testing.assert_allclose(found.mid, begin.timestamp() + 0.01 + 0.04 * np.arange(50), atol=1e-6)
        stamped = self._film(1e9 + 0.05 * np.arange(50))
        found = film_times(stamped, FilmTiming(first=begin, stamp="middle"))
        np.testing.assert_allclose(found.mid, begin.timestamp() + 0.05 * np.arange(50), atol=1e-6)
        found = film_times(stamped, FilmTiming(rate=10.0, stamp="middle"))
        np.testing.assert_allclose(found.mid, 1e9 + 0.1 * np.arange(50), atol=1e-6)
        with self.assertRaisesRegex(FrameError, "same time"):
            film_times(self._film(np.full(50, 1e9)), FilmTiming())
        for wrong in ({"rate": 0.0}, {"stamp": "late"}, {"exposure_s": -1.0}):
            with self.assertRaises(ValueError):
                FilmTiming(**wrong)  # type: ignore[arg-type]

    def test_a_tracker_needs_a_star_to_follow(self) -> None:
        with self.assertRaisesRegex(ValueError, "no tracking star"):
            Tracker([1.0], [1.0], [False], fwhm_px=2.0, radius_px=3.0, inner_px=5.0, outer_px=8.0)
