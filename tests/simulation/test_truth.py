"""What the simulator says is so, against ways of knowing that are not its own."""

import csv
import math
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from unittest import mock

import erfa
import numpy as np
from tools.cases import FolderCase
from tools.same import kept

from ulvar.frames import read_plane
from ulvar.lightcurves.times import barycentric_jd
from ulvar.simulation import Camera, CameraState, DemoSize, EclipsingBinary
from ulvar.simulation.camera import satellite_trail
from ulvar.simulation.demo import _header, _light_electrons, make_demo_night
from ulvar.simulation.demo_plan import (
    ECLIPSE_BJD,
    EVENING,
    EXTINCTION,
    SITE,
    SKY_MAG,
    ZERO_POINT,
    airmass_of,
    at_clock,
    bjd_tdb,
    hash_text,
    made_world,
    minor_body,
    planned_calibration,
    planned_lights,
    pointing_of,
)  # fmt: skip
from ulvar.simulation.sky import FIELD_DEC_DEG, FIELD_RA_DEG, PULSATOR_NAME, make_sky


class Eclipse(unittest.TestCase):
    """Light behind a disc, counted on a fine grid of the eclipsed star."""

    def counted(self, binary: EclipsingBinary, distance: float) -> float:
        y, x = (np.mgrid[-700:701, -700:701] + 0.5) / 700
        r2 = x**2 + y**2
        light = np.where(r2 < 1, 1 - binary.limb_darkening * (1 - np.sqrt(np.maximum(0, 1 - r2))), 0.0)
        hidden = (x - distance) ** 2 + y**2 < binary.radius_ratio**2
        return 1 - binary.light_share * float(light[hidden].sum() / light.sum())

    def test_as_counted(self) -> None:
        for ratio, impact, dark, share in (
            (0.75, 0.45, 0.55, 0.78), (1.3, 0.2, 0.0, 0.5), (0.2, 0.3, 0.9, 1.0), (0.75, 0.0, 0.3, 0.4), (1.0, 0.7, 0.6, 0.9),
        ):  # fmt: skip
            binary = EclipsingBinary(50.0, 0.1, ratio, impact, share, dark)
            speed = math.sqrt((1 + ratio) ** 2 - impact**2) / 0.1
            for phase in (0.0, 0.02, -0.05, 0.08, 0.099):
                with self.subTest(ratio=ratio, impact=impact, phase=phase):
                    flux = float(binary.flux(np.array([50.0 + phase]))[0])
                    self.assertAlmostEqual(flux, self.counted(binary, math.hypot(impact, speed * phase)), delta=2e-3)
            self.assertEqual(binary.flux(np.array([49.8999, 50.1001])).tolist(), [1.0, 1.0])
            self.assertLess(float(binary.flux(np.array([50.0995]))[0]), 1.0)


class Times(unittest.TestCase):
    """Airmass and barycentric time by the standard library of astronomy."""

    def test_airmass(self) -> None:
        for moment in (EVENING, at_clock(22, 0), at_clock(1, 30), datetime(2027, 2, 12, 4, 0, tzinfo=UTC)):
            day, part = erfa.dtf2d(b"UTC", moment.year, moment.month, moment.day, moment.hour, moment.minute, moment.second)
            hour = erfa.gmst82(day, part) + math.radians(SITE[1]) - math.radians(FIELD_RA_DEG)
            _, altitude = erfa.hd2ae(hour, math.radians(FIELD_DEC_DEG), math.radians(SITE[0]))
            # Young 1994, another fit to the same air.
            z = math.cos(math.pi / 2 - altitude)
            young = (1.002432 * z**2 + 0.148386 * z + 0.0096467) / (z**3 + 0.149864 * z**2 + 0.0102963 * z + 0.000303978)
            self.assertAlmostEqual(airmass_of(moment) / young, 1.0, delta=3e-3)

    def test_barycentric_time(self) -> None:
        for moment in (EVENING, at_clock(1, 30)):
            self.assertAlmostEqual(
                bjd_tdb(moment), float(barycentric_jd([moment], FIELD_RA_DEG, FIELD_DEC_DEG, None)[0]), delta=1e-3 / 86400,
            )  # fmt: skip

    def test_clock_and_names(self) -> None:
        self.assertEqual([at_clock(h, 5).day for h in (0, 6, 11, 12, 23)], [12, 12, 12, 11, 11])
        self.assertEqual(at_clock(20, 10, 7), datetime(2027, 2, 11, 20, 10, 7, tzinfo=UTC))
        self.assertEqual(hash_text("ab"), 97 * 131 + 98)


class Sky(FolderCase):
    """Stars, their catalogue, the cast."""

    def test_counts_rise_as_told(self) -> None:
        sky = make_sky(np.random.default_rng(5), stars=40_000)
        field = sky.V[11:]
        self.assertTrue(field.min() >= 10.3 and field.max() <= 19.5)
        for magnitude in (15.0, 16.0, 17.0):
            share = (field < magnitude + 1).sum() / (field < magnitude).sum()
            self.assertAlmostEqual(math.log10(share), 0.26, delta=0.02)
        self.assertAlmostEqual(float((sky.B - sky.V).mean()), 0.75, delta=0.02)
        np.testing.assert_allclose(sky.V - sky.R, 0.55 * (sky.B - sky.V), atol=1e-12)
        self.assertAlmostEqual(float(sky.pmra.std()), 6.0, delta=0.2)
        north, east = (sky.dec - FIELD_DEC_DEG) * 3600, (sky.ra - FIELD_RA_DEG) * 3600 * np.cos(np.radians(sky.dec))
        self.assertLessEqual(np.abs(north).max(), 2160.0)
        self.assertGreater(np.abs(east).max(), 2100.0)
        k = sky.index("b")
        self.assertEqual((round(east[k], 6), round(north[k], 6), sky.V[k]), (126.0, -205.0, 12.62))
        self.assertTrue(((colour := sky.B - sky.V) >= 0).all() and colour.max() <= 1.8 + 1e-9)
        for name in ("a", "d", "k1"):
            k = sky.index(name)
            apart = np.hypot(east - east[k], north - north[k])
            apart[k] = np.inf
            # A clean ring but for faint ones.
            self.assertGreater(apart[sky.V < 18.5].min(), 26.9)

    def test_the_catalogue_is_the_sky_with_errors(self) -> None:
        sky = make_sky(np.random.default_rng(5))
        sky.write_catalogue(self.folder / "c.csv", np.random.default_rng(6), faintest=17.0)
        with (self.folder / "c.csv").open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        order = np.argsort(sky.V)[: (sky.V <= 17.0).sum()]
        self.assertEqual(len(rows), len(order))
        for column, true in (("V", sky.V), ("B", sky.B), ("R", sky.R), ("mag", sky.V), ("pmra", sky.pmra), ("pmdec", sky.pmdec)):
            np.testing.assert_allclose([float(r[column]) for r in rows], true[order], atol=6e-4, err_msg=column)
        east = (np.array([float(r["ra"]) for r in rows]) - sky.ra[order]) * np.cos(np.radians(sky.dec[order])) * 3600
        north = (np.array([float(r["dec"]) for r in rows]) - sky.dec[order]) * 3600
        for error in (east, north):
            self.assertAlmostEqual(float(error.std()), 0.01, delta=0.001)
            self.assertLess(abs(float(error.mean())), 0.002)
        self.assertEqual({r["epoch"] for r in rows}, {"2016.0"})


class Light(unittest.TestCase):
    """Electrons of stars, of the sky, of a satellite."""

    def test_a_satellite(self) -> None:
        light = satellite_trail((200, 300), y0=40.0, slope=0.3, width_px=2.0, electrons=500.0)
        y, x = 40 + 0.3 * 150, 150
        self.assertAlmostEqual(light[round(y), x], 500.0, delta=25.0)
        across = light[:, 150]
        # The sum across a Gaussian ridge, seen askew.
        self.assertAlmostEqual(across.sum(), 500 * 2.0 * math.sqrt(2 * math.pi) * math.hypot(1, 0.3), delta=5.0)
        self.assertAlmostEqual(float((across * np.arange(200)).sum() / across.sum()), y, delta=0.05)

    def test_stars_and_sky(self) -> None:
        size = DemoSize(width=500, height=375, cycles=9, visual=4)
        lights = list(planned_lights(size, np.random.default_rng(1)))
        sky, others = made_world(size)
        # So fast that it shows: 2 px in ten years.
        moving = ("a", "b", "c", "d", "k1")
        fast = np.isin(np.arange(len(sky.ra)), [sky.index(name) for name in moving])
        sky = replace(sky, pmra=sky.pmra + 500 * fast, pmdec=sky.pmdec - 300 * fast)
        world = mock.patch("ulvar.simulation.demo.made_world", return_value=(sky, others))
        world.start()
        self.addCleanup(world.stop)
        for exposure in (
            next(e for e in lights if e.band == "B" and e.start > at_clock(21, 30)),
            next(e for e in lights if e.band == "V" and e.start > at_clock(23, 30)),
        ):
            drawn = mock.Mock(wraps=np.random.default_rng(3))
            with mock.patch("ulvar.simulation.demo.np.random.default_rng", return_value=drawn):
                image = _light_electrons(exposure)
            pointing, air = pointing_of(exposure), airmass_of(exposure.mid)
            # Young (1967): of 25 cm at 640 m, half as much again.
            shaken = 1.5 * 0.09 * 25 ** (-2 / 3) * air**1.75 * math.exp(-640 / 8000) / math.sqrt(2 * exposure.state.exposure_s)
            self.assertAlmostEqual(drawn.normal.call_args.args[1] / shaken, 1.0, delta=1e-3)
            seconds = exposure.state.exposure_s
            throughput = 10 ** (-0.4 * EXTINCTION[exposure.band] * (air - 1)) * exposure.transparency
            glow = 10 ** (-0.4 * (SKY_MAG[exposure.band] - ZERO_POINT[exposure.band])) * size.scale_arcsec_px**2 * seconds
            haze, twilight = (1 + 0.7 * (1 - exposure.transparency), 1 + 1.4 * math.exp(-(exposure.mid - EVENING).total_seconds() / 900))
            self.assertAlmostEqual(float(np.median(image)) / (glow * haze * twilight * air**0.6), 1.0, delta=0.01)
            years = (exposure.mid - datetime(2016, 1, 1, tzinfo=UTC)).total_seconds() / (365.25 * 86400)
            ratios = []
            for name in moving:
                i = sky.index(name)
                x, y = pointing.pixels(
                    sky.ra[i : i + 1] + sky.pmra[i] / 3.6e6 / math.cos(math.radians(sky.dec[i])) * years,
                    sky.dec[i : i + 1] + sky.pmdec[i] / 3.6e6 * years,
                )
                ix, iy = round(float(x[0])), round(float(y[0]))
                if not (12 < ix < 487 and 12 < iy < 362):
                    continue
                box = image[iy - 9 : iy + 10, ix - 9 : ix + 10]
                rim = np.r_[box[0], box[-1], box[:, 0], box[:, -1]]
                light = box - np.median(rim)
                yy, xx = np.mgrid[-9:10, -9:10]
                self.assertAlmostEqual(ix + float((light * xx).sum() / light.sum()), float(x[0]), delta=0.1)
                self.assertAlmostEqual(iy + float((light * yy).sum() / light.sum()), float(y[0]), delta=0.1)
                wanted = 10 ** (-0.4 * (getattr(sky, exposure.band)[i] - ZERO_POINT[exposure.band])) * seconds * throughput
                ratios.append(float(light.sum()) / wanted)
            self.assertGreater(len(ratios), 2)
            # Scintillation moves single stars by some thousandths.
            self.assertAlmostEqual(float(np.mean(ratios)), 1.0, delta=0.01)

    def test_the_target_fades_in_its_eclipse_and_another_star_beats(self) -> None:
        size = DemoSize(width=500, height=375, cycles=9, visual=4)
        sky, _ = made_world(size)
        told: dict[bool, list[float]] = {True: [], False: []}
        beats, swings = [], []
        for exposure in planned_lights(size, np.random.default_rng(1)):
            if exposure.band != "V" or exposure.trail[0] or exposure.transparency < 0.99:
                continue
            away = abs(bjd_tdb(exposure.mid) - ECLIPSE_BJD)
            image, pointing = _light_electrons(exposure), pointing_of(exposure)
            fluxes = []
            for name in ("Tarnholt 12", PULSATOR_NAME, "a", "b", "c"):
                i = sky.index(name)
                x, y = pointing.pixels(sky.ra[i : i + 1], sky.dec[i : i + 1])
                ix, iy = round(float(x[0])), round(float(y[0]))
                box = image[iy - 8 : iy + 9, ix - 8 : ix + 9]
                fluxes.append(float((box - np.median(np.r_[box[0], box[-1]])).sum()))
            target, pulsator = (-2.5 * math.log10(fluxes[k] / sum(fluxes[2:])) for k in (0, 1))
            if away < 0.01 or 0.07 < away < 0.1:
                told[away < 0.01].append(target)
            beats.append(pulsator)
            swings.append(math.sin(2 * math.pi * (exposure.mid - EVENING).total_seconds() / 3600 / 1.9))
        # Half a dozen exposures with some thousandths of scintillation.
        self.assertAlmostEqual(float(np.polyfit(swings, beats, 1)[0]), 0.017, delta=0.006)
        self.assertTrue(told[True] and told[False])
        depth = np.mean(told[True]) - np.mean(told[False])
        self.assertAlmostEqual(float(depth), EclipsingBinary(ECLIPSE_BJD).depth_mag, delta=0.02)

    def test_a_body_crosses_at_its_rate(self) -> None:
        for hours in (0.0, 2.0):
            ra, dec, magnitude = minor_body(at_clock(22, 0) + timedelta(hours=hours))
            self.assertAlmostEqual((dec - FIELD_DEC_DEG) * 3600, 118 + 9 * hours, places=6)
            self.assertAlmostEqual((ra - FIELD_RA_DEG) * 3600 * math.cos(math.radians(dec)), 150 - 31 * hours, places=6)
            self.assertEqual(magnitude, 17.6)


class Plan(FolderCase):
    """Which files there are, in which words."""

    def test_the_night(self) -> None:
        size = DemoSize(cycles=3, visual=2, bias=4, darks=9, flats=6)
        self.assertAlmostEqual(size.scale_arcsec_px, 1.239)
        self.assertAlmostEqual(DemoSize(width=250).scale_arcsec_px, 4.956)
        lights = list(planned_lights(size, np.random.default_rng(1)))
        self.assertEqual([e.band for e in lights[:4]], ["V", "V", "B", "R"])
        self.assertEqual(
            [e.file for e in lights[4:8]],
            [
                "lights/V/T12-V-003.fits", "lights/V/T12-V-004.fits", "lights/B/T12-B-002.fits.fz", "lights/R/T12-R-002.fits.fz",
            ],
        )  # fmt: skip
        for e, after in zip(lights, lights[1:]):
            self.assertGreater(after.start, e.start + timedelta(seconds=e.state.exposure_s))
        self.assertEqual(lights[4].start - lights[0].start, timedelta(hours=6.62) / 3)
        self.assertEqual([e.flipped for e in lights], [e.start > at_clock(21, 55) for e in lights])
        self.assertEqual({e.state.exposure_s for e in lights}, {240.0, 300.0, 180.0})
        for e in lights:
            pointing = pointing_of(e)
            self.assertAlmostEqual(pointing.rotation_deg, 192.4 if e.flipped else 12.4)
            self.assertAlmostEqual((pointing.dec_deg - FIELD_DEC_DEG) * 3600, e.dither[1] * 1.239, places=6)
            self.assertAlmostEqual(
                (pointing.ra_deg - FIELD_RA_DEG) * 3600 * math.cos(math.radians(FIELD_DEC_DEG)), e.dither[0] * 1.239, places=6,
            )  # fmt: skip
        counts: dict[tuple[str, str, float, int], int] = {}
        for e in planned_calibration(size, np.random.default_rng(1)):
            self.assertAlmostEqual(e.state.temperature_c, -10 if e.state.exposure_s == 300 else -15, delta=0.25)
            key = (e.role, e.band, e.state.exposure_s, e.state.gain)
            counts[key] = counts.get(key, 0) + 1
        self.assertEqual(counts, {
            ("flat", "V", 2.0, 100): 6, ("flat", "B", 4.5, 100): 6, ("flat", "R", 1.6, 0): 6, ("dark_flat", "", 2.0, 100): 4,
            ("dark_flat", "", 4.5, 100): 4, ("dark_flat", "", 1.6, 100): 4, ("dark", "", 240.0, 100): 9, ("dark", "", 180.0, 100): 5,
            ("dark", "", 300.0, 100): 3, ("bias", "", 0.0, 100): 4,
        })  # fmt: skip
        # Focus drifts, then jumps back; a thin cloud comes and goes.
        many = list(planned_lights(DemoSize(), np.random.default_rng(1)))
        self.assertGreater(max(e.fwhm_px for e in many if e.start < at_clock(21, 17)), 3.7)
        self.assertLess(max(e.fwhm_px for e in many if e.start > at_clock(21, 17)), 3.2)
        cloudy = [e for e in many if e.transparency < 0.9]
        self.assertTrue(cloudy and all(at_clock(0, 7) < e.start < at_clock(0, 43) for e in cloudy))
        self.assertLess(min(e.transparency for e in cloudy), 0.6)
        self.assertEqual(sum(e.satellite for e in many), 1)

    def test_words_of_headers(self) -> None:
        size = DemoSize(cycles=2, visual=1)
        plan = [*planned_lights(size, np.random.default_rng(1)), *planned_calibration(size, np.random.default_rng(1))]
        by = {e.dialect: {c["name"]: c["value"] for c in _header(e)} for e in plan}
        self.assertEqual(set(by), {"V", "B", "R", "flat-a", "flat-b", "df-a", "df-b", "df-none", "dark-a", "dark-b", "bias"})
        for dialect, cards in by.items():
            with self.subTest(dialect):
                self.assertEqual("EXPOSURE" in cards, dialect in ("B", "flat-b", "df-b", "dark-b"))
                self.assertEqual("EXPTIME" in cards, "EXPOSURE" not in cards)
                self.assertEqual("GAIN" in cards, dialect != "df-none")
                self.assertEqual("CCD-TEMP" in cards, dialect not in ("bias", "df-b"))
                self.assertEqual("FILTER" in cards, dialect[:1] in "VBR" or dialect.startswith("flat"))
                self.assertEqual("OBJECT" in cards, dialect in "VBR")
                self.assertEqual("FRAME" in cards, dialect in ("B", "flat-b", "dark-b"))
                if "GAIN" in cards:
                    self.assertEqual(cards["OFFSET"], 30)
                    self.assertEqual((cards["EGAIN"], cards["RDNOISE"]), {100: (1.3, 6.2), 0: (4.1, 9.4)}[cards["GAIN"]])
        self.assertEqual((by["V"]["RA"], by["B"]["OBJCTRA"], by["R"]["OBJCTRA"]), (FIELD_RA_DEG, "07 42 07.2", "07:42:07.20"))
        self.assertEqual((by["V"]["SITELAT"], by["B"]["SITELAT"]), (61.2, "+61 12 00"))
        # The focal length and the pixels give the scale.
        self.assertAlmostEqual(206.264806 * by["V"]["XPIXSZ"] / by["V"]["FOCALLEN"], size.scale_arcsec_px, places=3)

    def test_truth_tells_what_was_made(self) -> None:
        size = DemoSize(width=120, height=90, cycles=9, visual=1, bias=3, darks=9, flats=3)
        truth = make_demo_night(self.folder, size)
        self.assertEqual((truth["size"]["width"], truth["eclipse"]["mid_bjd_tdb"]), (120, ECLIPSE_BJD))
        self.assertAlmostEqual(truth["eclipse"]["duration_d"], 2 * 83.4 / 1440)
        lights = list(planned_lights(size, np.random.default_rng([20270211, 2])))
        self.assertEqual(set(truth["frames"]), {e.file for e in lights})
        for e in lights:
            self.assertEqual(truth["frames"][e.file]["fwhm_px"], e.fwhm_px)
        self.assertEqual(truth["planted"]["flip"], [e.file for e in lights if e.flipped])
        self.assertEqual(truth["planted"]["short_dark"], [e.file for e in lights if e.band == "B"])
        self.assertEqual(truth["planted"]["truncated"], ["lights/V/T12-V-009.fits"])
        sharp = {e.file for e in lights if e.band != "V" or e.fwhm_px <= 3.6 or e.trail[0]}
        self.assertFalse(sharp & set(truth["planted"]["focus"]))
        self.assertEqual(truth["minor_body"][1]["time_utc"], "2027-02-11T22:00:00+00:00")
        with (self.folder / "stars.csv").open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual([r["role"] for r in rows], ["target"] + ["comparison"] * 6 + ["check"])
        sky, _ = made_world(size)
        for row in rows:
            i = sky.index(row["name"])
            self.assertAlmostEqual((float(row["dec"]) - sky.dec[i]) * 3.6e6, sky.pmdec[i] * 11.11, delta=0.5)
            self.assertAlmostEqual(
                (float(row["ra"]) - sky.ra[i]) * 3.6e6 * math.cos(math.radians(sky.dec[i])), sky.pmra[i] * 11.11, delta=0.5,
            )  # fmt: skip
        # Flats are as bright as planned: 32,000 ADU over the offset, within a twentieth.
        flats = [float(np.median(read_plane(str(p)))) for p in sorted((self.folder / "raw" / "flats" / "V").glob("*"))]
        self.assertAlmostEqual(float(np.mean(flats)) / (32000 + 300), 1.0, delta=0.15)
        kept(self, flats)


class Sensor(unittest.TestCase):
    """Patterns of the made-up camera, one by one."""

    def test_patterns(self) -> None:
        camera = Camera(400, 300, seed=3, dead_column=37)
        pattern = camera.bias_pattern
        self.assertAlmostEqual(float(pattern.mean()), 0.0, places=9)
        self.assertAlmostEqual(float(pattern[0].mean() - pattern[-1].mean()), 3.5, places=9)
        self.assertAlmostEqual(float(pattern[0].std()), 1.6, delta=0.2)
        self.assertAlmostEqual(camera.hot.mean(), 0.0016, delta=0.0005)
        rate = camera.dark_rate
        self.assertGreater(np.median(rate[camera.hot]), 10 * np.median(rate))
        # Glow at the right edge and in the lower left corner of the numbering's last row.
        self.assertGreater(np.median(rate[:250, -1]) - np.median(rate[:250, 200]), 0.4)
        # It falls by e in 0.045 of the width.
        self.assertAlmostEqual(np.median(rate[:250, -18]) - np.median(rate[:250, 200]), 0.45 / math.e, delta=0.02)
        self.assertGreater(np.median(rate[-4:, :4]), 0.4)
        self.assertLess(np.median(rate[:100, :100]), 0.05)
        flat = camera.flat
        self.assertAlmostEqual(float(np.median(flat[:, 37]) / np.median(flat[:, 39])), 0.12, delta=0.01)
        self.assertGreater(np.median(flat[130:160, 200:224]), 1.03)
        self.assertAlmostEqual(float(np.median(flat[:5, :5])), 1.06 / (1 + 0.13 * (1.06**2 + (0.48 * 1.5) ** 2)) ** 2, delta=0.02)

    def test_noise_and_cosmic_rays(self) -> None:
        camera, rng = Camera(300, 200, seed=3), np.random.default_rng(8)
        for gain, per, read in ((100, 1.3, 6.2), (0, 4.1, 9.4)):
            state = CameraState(gain, 0.0, -15.0)
            first, second = (camera.expose(rng, 2000.0, state).astype(float) for _ in range(2))
            noise = (first - second).std() / math.sqrt(2)
            # Rounded to whole ADU, and rows with a level of their own.
            expected = math.sqrt((2000 * camera.flat.mean() + read**2) / per**2 + 0.35**2 + 1 / 12)
            self.assertAlmostEqual(noise / expected, 1.0, delta=0.02)
        quiet, hit = (camera.expose(np.random.default_rng(4), 0.0, CameraState(100, 1.0, -15.0), cosmic_rays=n) for n in (0.0, 40.0))
        self.assertLess((quiet > 400).sum(), 5)
        self.assertTrue(40 < (hit > 600).sum() < 600)
