"""Cells of a colour sensor, names that tell files apart, scales from headers, the pause that parts the nights."""

import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ulvar.frames import ExposureFacts, Frame, Role, facts_from_header, group_exposures
from ulvar.frames.lettering import captioned
from ulvar.frames.mosaic import cell_colours, is_mosaic, on_one_scale, white_balance
from ulvar.frames.names import distinct_names, distinct_stems
from ulvar.frames.sessions import folder_parts, noon_offset

PATHS = st.lists(
    st.lists(st.sampled_from(["a", "b", "L1.fits", "L1.fit", "a-L1.fits"]), min_size=1, max_size=4).map("/".join),
    min_size=1, max_size=12, unique=True,
)  # fmt: skip


class Pictures(unittest.TestCase):
    def test_what_calibration_added_is_taken_off(self) -> None:
        frame = Frame(np.full((2, 3), 150.0, np.float32), ExposureFacts("x", pedestal_adu=100.0))
        self.assertTrue((frame.above_pedestal() == 50.0).all())

    def test_words_stand_under_a_picture(self) -> None:
        picture = np.full((3, 50, 300), 200, np.uint8)
        self.assertIs(captioned(picture, [""]), picture)
        for lines, height in ((["Field A"], 12 + 19), (["Field A", "Stack of 12"], 12 + 38), (["W" * 60], 8 + 5)):
            made = captioned(picture, lines)
            self.assertEqual(made.shape, (3, 50 + height, 300))
            band = made[0, :height]
            np.testing.assert_array_equal(made[:, height:], picture)
            self.assertTrue(band[0, 0] == 24 and band.max() > 60)
            rows, columns = np.nonzero(band > 40)
            self.assertTrue(columns.min() >= 6 and columns.max() < 294 and rows.max() < height - 1, "it has a rim")


class Cells(unittest.TestCase):
    """A 2 x 2 cell is read row by row."""

    def test_which_cells_there_are(self) -> None:
        for cfa in ("RGGB", "BGGR", "GRBG", "GBRG"):
            self.assertTrue(is_mosaic(cfa))
        for cfa in ("", "RGB", "RGBG", "RRGB", "GGRB", "GGGG", "RGGBX"):
            self.assertFalse(is_mosaic(cfa), cfa)

    def test_one_pixel_a_cell(self) -> None:
        mosaic = np.arange(30, dtype=np.float32).reshape(5, 6)
        colours = cell_colours(mosaic, "GRBG")
        self.assertEqual(colours.shape, (2, 3, 3))
        # Cell at row 1, column 2: pixels 16 17 / 22 23 as G R / B G.
        self.assertEqual(colours[1, 2].tolist(), [17.0, 0.5 * (16 + 23), 22.0])

    def test_bands_on_the_scale_of_green(self) -> None:
        mosaic = np.array([[10, 20, 10, 20, 11], [30, 40, 30, 40, 31], [10, 20, 10, 20, 11]], dtype=np.float32)
        before = mosaic.copy()
        scaled = on_one_scale(mosaic, "RGGB", ((4.0, 3.0), (100.0, 1.0), (8.0, 0.5)))
        np.testing.assert_array_equal(mosaic, before)
        # Red (10 - 4) 3 + 100, green as it is, blue (40 - 8) / 2 + 100.
        np.testing.assert_allclose(scaled[:2, :2], [[118, 20], [30, 116]])
        np.testing.assert_allclose(scaled[:, 4], [121, 31, 121])

    def test_white_balance_of_stars_and_of_a_flat(self) -> None:
        rng = np.random.default_rng(5)
        light = np.zeros((100, 120))
        light[rng.integers(0, 100, 300), rng.integers(0, 120, 300)] = rng.uniform(300, 900, 300)
        gains, sky = np.array([0.5, 1.0, 0.8]), np.array([50.0, 80.0, 60.0])
        picture = light[..., None] * gains + sky + rng.normal(0, 2, (100, 120, 3))
        picture[0, 0] = np.nan
        balance = white_balance(picture.astype(np.float32))
        for (offset, factor), level, gain in zip(balance, sky, gains):
            self.assertAlmostEqual(offset, level, delta=0.2)
            # 300 stars of 600 over a noise of 2: the ratio of the sums is known to 0.05 %.
            self.assertAlmostEqual(factor, 1 / gain, delta=0.01 / gain)
        flat = white_balance(np.full((8, 8, 3), (100.0, 200.0, 400.0), dtype=np.float32))
        self.assertEqual([factor for _, factor in flat], [2.0, 1.0, 0.5])
        self.assertEqual(white_balance(np.full((4, 4, 3), np.nan, dtype=np.float32)), ((0.0, 1.0),) * 3)
        extreme = white_balance(np.full((8, 8, 3), (1.0, 200.0, 40000.0), dtype=np.float32))
        np.testing.assert_allclose([factor for _, factor in extreme], [6.0, 1.0, 1 / 6], rtol=1e-6)


class Names(unittest.TestCase):
    """No two files are called the same, and a name is no longer than it must be."""

    @given(PATHS)
    def test_names_tell_apart(self, paths: list[str]) -> None:
        names = distinct_names(paths)
        self.assertEqual(list(names), paths)
        self.assertEqual(len(set(names.values())), len(paths))
        for path, name in names.items():
            self.assertTrue(path == name or path.endswith("/" + name))
            shorter = name.partition("/")[2]
            others = [other for other in paths if other != path]
            if shorter:
                self.assertTrue(any(other == shorter or other.endswith("/" + shorter) for other in others))

    @given(PATHS)
    def test_stems_tell_apart(self, paths: list[str]) -> None:
        stems = distinct_stems(paths)
        self.assertEqual(list(stems), paths)
        self.assertEqual(len(set(stems.values())), len(paths))
        self.assertFalse(any("/" in stem or not stem for stem in stems.values()))

    def test_same_file_in_two_folders(self) -> None:
        stems = distinct_stems(["/n/a/L1.fits", "/n/b/L1.fits", "/n/b/L1.fit", "/n/c/L2.fits"])
        self.assertEqual(list(stems.values()), ["a-L1", "b-L1", "b-L1-2", "L2"])


class Scales(unittest.TestCase):
    """The scale comes from what the header has, best first; half a matrix is none."""

    def test_sources(self) -> None:
        turned = {"CD1_1": 3e-4, "CD1_2": 4e-4, "CD2_1": -4e-4, "CD2_2": 3e-4}
        cases: list[tuple[dict[str, object], float | None]] = [
            ({"PIXSCALE": -1.5, **turned}, 1.5), (turned, 5e-4 * 3600), ({"CD1_1": 3e-4, "CD1_2": 4e-4}, None), ({"CD2_2": 3e-4}, None),
            ({"CD1_1": 3e-4, "FOCALLEN": 800.0, "XPIXSZ": 4.0}, 206.264806 * 4.0 / 800.0),
            ({"CDELT2": -4e-4, "CTYPE1": "RA---TAN"}, 1.44), ({"CDELT2": -4e-4}, None),
            ({"FOCALLEN": 800.0, "PIXSIZE1": 5.0}, 206.264806 * 5.0 / 800.0), ({"FOCALLEN": 800.0}, None),
        ]  # fmt: skip
        for header, scale in cases:
            with self.subTest(header=header):
                told = facts_from_header(header, "x.fits").scale_arcsec_px
                if scale is None:
                    self.assertIsNone(told)
                else:
                    self.assertAlmostEqual(told or 0.0, scale, places=9)


class Groups(unittest.TestCase):
    """The key of a group says what tells it apart."""

    def test_key(self) -> None:
        def one(**more: object) -> str:
            facts = {"filter": "V", "exposure_s": 60.0, "gain": 100.0, "temperature_c": -10.2, "binning": 2} | more
            return group_exposures([ExposureFacts("a.fits", Role.LIGHT, width=9, height=7, **facts)])[0].key  # type: ignore[arg-type]

        plain = one()
        self.assertTrue(plain.startswith("light-V-60s-gain100--10C-bin2-"), plain)
        self.assertEqual(one(), plain)
        keys = {plain} | {
            one(**{name: value})
            for name, value in (
                ("filter", "R"), ("exposure_s", 61.5), ("gain", 0.0), ("temperature_c", 4.0), ("binning", 1),
                ("camera", "Kvist"), ("readout_mode", "fast"), ("offset", 8.0),
            )
        }  # fmt: skip
        self.assertEqual(len(keys), 9)
        bare = one(filter="", exposure_s=None, gain=None, temperature_c=None, binning=1)
        self.assertRegex(bare, "^light-[0-9a-f]{4}$")

    def test_sessions_are_named_when_there_are_several(self) -> None:
        def keys(*sessions: str, **more: object) -> list[str]:
            members = [ExposureFacts(f"{k}.fits", Role.LIGHT, filter="V", session=session) for k, session in enumerate(sessions)]
            return [group.key for group in group_exposures(members, **more)]  # type: ignore[arg-type]

        self.assertEqual([("2027-02-11" in key) for key in keys("2027-02-11")], [False])
        self.assertEqual([("2027-02-11" in key) for key in keys("2027-02-11", "")], [False, False])
        self.assertEqual(sum("2027-02-1" in key for key in keys("2027-02-11", "2027-02-12")), 2)
        self.assertEqual([("2027-02-11" in key) for key in keys("2027-02-11", name_sessions=True)], [True])

    def test_counts_of_combined_frames(self) -> None:
        for told, count in ((16, 16), (0, 1), (-3, 1), ("7", 7), ("many", 1)):
            self.assertEqual(facts_from_header({"NCOMBINE": told}, "x.fits").count, count)


class Pauses(unittest.TestCase):
    """Without a site the nights part in the middle of the longest pause."""

    def lights(self, *hours: float) -> list[ExposureFacts]:
        first = datetime(2027, 2, 11, tzinfo=UTC)
        return [ExposureFacts(f"{h}.fits", Role.LIGHT, start_utc=first + timedelta(hours=h)) for h in hours]

    def test_middle_of_the_pause(self) -> None:
        # Work from 18 to 4 h pauses from 4 to 18 h: its middle is 11 h.
        self.assertEqual(noon_offset(self.lights(18, 20, 23, 26, 28)), timedelta(hours=11))
        # Work from 6 to 14 h, as far east or west: the pause runs over midnight to 22 h.
        self.assertEqual(noon_offset(self.lights(6, 9, 12, 14)), timedelta(hours=22))
        self.assertEqual(noon_offset(self.lights(20)), timedelta(hours=8))
        self.assertEqual(noon_offset([]), timedelta(hours=12))

    def test_site(self) -> None:
        east = ExposureFacts("a.fits", Role.LIGHT, site_longitude_deg=150.0)
        west = ExposureFacts("a.fits", Role.LIGHT, site_longitude_deg=-150.0)
        self.assertEqual(noon_offset([east]), timedelta(hours=2))
        self.assertEqual(noon_offset([west]), timedelta(hours=22))

    def test_folders(self) -> None:
        self.assertEqual(folder_parts("/n/a/b/L1.fits", []), ["n", "a", "b"])
        self.assertEqual(folder_parts("/n/a/b/L1.fits", ["/n"]), ["a", "b"])
        self.assertEqual(folder_parts("/n/a/b/L1.fits", ["/n", "/n/a", "/m"]), ["b"])
