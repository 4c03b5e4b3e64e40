"""ulvar variables, candidates, aperture, and measure with several radii, profiles and places of its own."""

import csv
import math
from typing import ClassVar

import numpy as np

from tests.cli.support import Command
from ulvar.photometry import read_series, scintillation
from ulvar.simulation import Psf, star_field

GAIN = 1.5
COUNT = 18


class Night(Command):
    """Eighteen exposures of sixty stars, shifted, of changing seeing, one star of them varying."""

    more: ClassVar[dict[str, float]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        rng = np.random.default_rng(40)
        gx, gy = (v.ravel() for v in np.meshgrid(np.arange(30, 330, 34.0), np.arange(30, 230, 34.0)))
        cls.x, cls.y = gx + rng.uniform(-6, 6, gx.size), gy + rng.uniform(-6, 6, gx.size)
        cls.flux = 10 ** rng.uniform(4.4, 5.3, gx.size)
        # 20 target, 21 varies, 22 as bright as the target, 23 never seen, 24 with a neighbour.
        cls.flux[[20, 21, 22, 23, 24]] = 6e4, 9e4, 6.6e4, 30.0, 7e4
        cls.x[25], cls.y[25], cls.flux[25] = cls.x[24] + 5, cls.y[24], 3e4
        cls.frames = []
        for k in range(COUNT):
            light = cls.flux.copy()
            light[21] *= 1 + 0.06 * math.sin(k / 2.5)
            cls.frames.append(
                star_field(
                    rng, width=360, height=260, x=cls.x + 0.37 * k, y=cls.y - 0.21 * k, flux_e=light * GAIN,
                    psf=Psf.with_fwhm(2.6 + 0.04 * k), sky_e=300, read_noise_e=6, gain_e_per_adu=GAIN,
                )
            )  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        for k, image in enumerate(self.frames):
            self.write(
                f"n/p{k:02d}.fits", image, IMAGETYP="light", EXPTIME=5.0, DATE_OBS=f"2027-02-11T20:{k:02d}:00", EGAIN=GAIN,
                RDNOISE=6.0, SITELAT=61.2, SITELONG=9.7, SITEELEV=640.0, OBJCTRA="07 42 10", OBJCTDEC="+41 18 00", **self.more,
            )  # fmt: skip
        self.n = self.folder / "n"

    def near(self, k: int, x: float, y: float) -> bool:
        return math.hypot(x - self.x[k], y - self.y[k]) < 1.0

    def stars(self, *rows: tuple[str, str, int]) -> object:
        """Write a list of stars by their numbers."""
        path = self.folder / "stars.csv"
        lines = [f"{name},{role},{self.x[k]:.3f},{self.y[k]:.3f}" for name, role, k in rows]
        path.write_text("name,role,x,y\n" + "\n".join(lines) + "\n")
        return path


class Field(Night):
    """The whole field."""

    def test_what_varies_is_named(self) -> None:
        out = self.folder / "field.csv"
        code, body = self.json("variables", self.n, "--out", out)
        self.assertEqual(code, 0)
        self.assertEqual(body["exposures"], COUNT)
        (found,) = body["variables"]
        self.assertTrue(self.near(21, found["x"], found["y"]))
        self.assertAlmostEqual(found["scatter"], 0.06 / math.sqrt(2), delta=0.012)
        self.assertAlmostEqual(body["noise"]["gain"], GAIN, delta=0.02)
        with out.open() as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual(len(rows), body["stars"])
        levels = [float(row["flux"]) for row in rows]
        self.assertEqual(levels, sorted(levels, reverse=True))
        self.assertEqual([row["name"] for row in rows if row["varies"]], [found["name"]])
        blends = [row for row in rows if row["blended"]]
        self.assertTrue(any(self.near(25, float(row["x"]), float(row["y"])) for row in blends))
        steady = [float(row["ratio"]) for row in rows if not row["varies"] and not row["blended"]]
        self.assertLess(float(np.median(steady)), 1.15)
        self.assertGreater(float(np.median(steady)), 0.85)
        code, text, _ = self.ulvar("variables", self.n, "--out", out, "--replace")
        self.assertIn("1 vary", text)
        self.assertIn("times what is usual", text)
        self.assertEqual(self.ulvar("variables", self.n, "--out", out)[0], 2)
        self.assertEqual(self.ulvar("variables", self.n, "--out", self.folder / "b.csv", "--aperture", "2,3")[0], 2)

    def test_candidates_with_reasons(self) -> None:
        out = self.folder / "list.csv"
        at = f"px:{self.x[20] + 1:.1f},{self.y[20] + 1:.1f}"
        code, body = self.json("candidates", self.n, "--target", at, "--out", out, "--count", 4)
        self.assertEqual(code, 0)
        good = [c for c in body["candidates"] if c["good"]]
        self.assertTrue(any(self.near(22, c["x"], c["y"]) for c in good))
        blend = next(c for c in body["candidates"] if self.near(24, c["x"], c["y"]))
        self.assertIn("of its light", blend["why_not"][0])
        with out.open() as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual([row["role"] for row in rows], ["target"] + ["comparison"] * 4)
        self.assertTrue(self.near(20, float(rows[0]["x"]), float(rows[0]["y"])))
        self.assertTrue(all(any(abs(float(r["x"]) - c["x"]) < 0.01 for c in good[:4]) for r in rows[1:]))
        # The list serves as it is.
        code, body = self.json("measure", self.n, "--stars", out, "--out", self.folder / "s.csv")
        self.assertEqual((code, body["rows"]), (0, 5 * COUNT))
        for words, told in (
            (("--target", "here"), "not RA,DEC"), (("--target", "115.5,41.3"), "no plate solution"), (("--target", "px:5,5"), "no star was found"),
            (("--target", at, "--out", out), "it is kept"),
        ):  # fmt: skip
            code, _, error = self.ulvar("candidates", self.n, *words)
            self.assertEqual(code, 2, words)
            self.assertIn(told, error)

    def test_an_aperture_is_proposed(self) -> None:
        at = f"px:{self.x[20] + 1:.1f},{self.y[20] + 1:.1f}"
        code, body = self.json("aperture", self.n, "--target", at)
        self.assertEqual(code, 0)
        self.assertTrue(0.9 < body["radius_fwhm"] < 2.2)
        self.assertTrue(body["inner_px"] < body["outer_px"])
        widths = [g["fwhm_px"] for g in body["growths"]]
        self.assertEqual(widths, sorted(widths))
        for growth in body["growths"]:
            self.assertTrue((np.diff(growth["share"]) > -0.01).all())
            # What two Gaussians, integrated over pixels, hold within one FWHM.
            at_one = np.interp(1.0, np.array(growth["radius_px"]) / growth["fwhm_px"], growth["share"])
            parts = Psf.with_fwhm(growth["fwhm_px"]).parts
            share = sum(f * (1 - math.exp(-(growth["fwhm_px"] ** 2) / (2 * (s * s + 1 / 12)))) for f, s in parts)
            self.assertAlmostEqual(at_one, share, delta=0.02)
            self.assertGreater(growth["snr"][int(np.argmax(growth["snr"]))], 100)
        faint = f"px:{self.x[23] + 1:.1f},{self.y[23] + 1:.1f}"
        _, body = self.json("aperture", self.n, "--target", faint)
        self.assertIn("not seen", body["why"][0])
        crowded = f"px:{self.x[24] + 1:.1f},{self.y[24] + 1:.1f}"
        _, body = self.json("aperture", self.n, "--target", crowded)
        self.assertTrue(any("neighbour" in why for why in body["why"]))
        self.assertLess(body["radius_fwhm"] * body["growths"][0]["fwhm_px"], 5.0)


class Measured(Night):
    """What `ulvar measure` takes beside one radius."""

    # Scintillation is told, though the frames have none of it.
    more: ClassVar[dict[str, float]] = {"APTDIA": 200.0}

    def test_several_radii_in_one_pass(self) -> None:
        stars = self.stars(("T", "target", 20), ("a", "comparison", 22), ("b", "comparison", 10), ("c", "comparison", 12))
        out = self.folder / "s.csv"
        code, body = self.json("measure", self.n, "--stars", stars, "--out", out, "--aperture", "0.5,1.2,3.5fwhm")
        self.assertEqual(code, 0)
        told = body["series"][0]
        self.assertEqual([t["radius"] for t in told["apertures"]], [0.5, 1.2, 3.5])
        self.assertEqual((told["aperture"], told["aperture_by"]), (1.2, "scatter"))
        table = read_series(out)
        self.assertEqual(len(table.rows), 4 * COUNT)
        self.assertEqual({row.aperture for row in table.rows}, {1.2})
        for row in table.rows:
            self.assertAlmostEqual(row.radius_px, 1.2 * row.fwhm_px, places=3)
        code, text, _ = self.ulvar("measure", self.n, "--stars", stars, "--out", out, "--aperture", "0.5,1.2,3.5fwhm", "--replace")
        self.assertIn("<- used", next(line for line in text.splitlines() if "1.2 FWHM" in line))
        # One radius measured alone gives the same sums but for the annulus, which the largest one sets.
        alone = self.folder / "alone.csv"
        inner, outer = table.rows[0].inner_px, table.rows[0].outer_px
        self.json(
            "measure", self.n, "--stars", stars, "--out", alone, "--aperture", "1.2fwhm", "--annulus", f"{inner},{outer}",
        )  # fmt: skip
        first = read_series(alone).rows[0]
        self.assertAlmostEqual(first.flux, table.rows[0].flux, places=2)

    def test_each_term_of_the_error_stands_in_the_table(self) -> None:
        out = self.folder / "s.csv"
        self.json("measure", self.n, "--stars", self.stars(("T", "target", 20), ("a", "comparison", 22)), "--out", out)
        for row in read_series(out).rows:
            terms = (row.noise_source, row.noise_sky, row.noise_read, row.noise_level, row.noise_scintillation)
            self.assertAlmostEqual(math.hypot(*terms), row.flux_error, delta=2e-3 * row.flux_error)
            share = scintillation(row.airmass, 5.0, 200.0, 640.0)
            self.assertAlmostEqual(row.noise_scintillation / row.flux, share, delta=1e-4 * share)
            self.assertAlmostEqual(row.noise_source, math.sqrt(row.flux / GAIN), delta=0.01)
        for k in range(2):
            self.write(
                f"flat/p{k}.fits", self.frames[k], IMAGETYP="light", EXPTIME=5.0, EGAIN=GAIN, DATE_OBS=f"2027-02-11T20:{k:02d}:00",
                FLATNOIS=0.02,
            )  # fmt: skip
        self.json(
            "measure", self.folder / "flat", "--stars", self.stars(("T", "target", 20)), "--out", self.folder / "f.csv", "--aperture",
            "6",
        )  # fmt: skip
        row = read_series(self.folder / "f.csv").rows[0]
        y, x = np.mgrid[: self.frames[0].shape[0], : self.frames[0].shape[1]]
        light = (self.frames[0] - row.sky)[np.hypot(x - row.x, y - row.y) < 6]
        self.assertAlmostEqual(row.noise_flat, 0.02 * math.sqrt(float((light**2).sum())), delta=0.03 * row.noise_flat)
        self.assertGreater(row.flux_error, row.noise_flat)
        bare = self.folder / "bare"
        for k in range(2):
            self.write(
                f"bare/p{k}.fits", self.frames[k], IMAGETYP="light", EXPTIME=5.0, EGAIN=GAIN, DATE_OBS=f"2027-02-11T20:{k:02d}:00",
            )  # fmt: skip
        self.json("measure", bare, "--stars", self.stars(("T", "target", 20)), "--out", self.folder / "b.csv")
        row = read_series(self.folder / "b.csv").rows[0]
        self.assertTrue(math.isnan(row.noise_scintillation) and math.isnan(row.noise_read))
        self.assertTrue(math.isfinite(row.flux_error))

    def test_ways_to_centre(self) -> None:
        # Told 0.8 px off: what is found there is at the right place, what is forced is not, what moves together is.
        rows = [("T", "target", 20), ("a", "comparison", 22), ("b", "comparison", 10), ("dark", "check", 23)]
        path = self.folder / "off.csv"
        lines = [f"{name},{role},{self.x[k] + 0.8:.3f},{self.y[k] - 0.5:.3f}" for name, role, k in rows]
        path.write_text("name,role,x,y\n" + "\n".join(lines) + "\n")
        for centre, off, lost in (("forced", True, False), ("refined", False, True), ("moments", False, None), ("together", False, False)):
            out = self.folder / f"{centre}.csv"
            code, _ = self.json("measure", self.n, "--stars", path, "--out", out, "--centre", centre)
            self.assertEqual(code, 0)
            for row in read_series(out).rows:
                k = int(row.file[1:3])
                number = {name: n for name, _, n in rows}[row.name]
                dx, dy = row.x - (self.x[number] + 0.37 * k), row.y - (self.y[number] - 0.21 * k)
                if row.name == "dark":
                    # A star that is not seen moves with the others, or stays where it was told to be.
                    if lost is not None:
                        self.assertEqual(bool(row.flags & 32), lost, centre)
                    if centre != "moments":
                        moved = centre == "together"
                        self.assertLess(math.hypot(dx - 0.8 * (not moved), dy + 0.5 * (not moved)), 0.15, centre)
                else:
                    self.assertLess(math.hypot(dx - 0.8 * off, dy + 0.5 * off), 0.12, (centre, row.file, row.name))

    def test_profile_and_sky(self) -> None:
        stars = self.stars(("T", "target", 24), ("a", "comparison", 22), ("dark", "check", 23))
        out = self.folder / "p.csv"
        code, _ = self.json("measure", self.n, "--stars", stars, "--out", out, "--profile", "--sky", "mode", "--elliptical")
        self.assertEqual(code, 0)
        table = read_series(out)
        blend = [row.profile_flux / self.flux[24] for row in table.star("T")]
        summed = [row.flux / self.flux[24] for row in table.star("T")]
        self.assertLess(abs(float(np.median(blend)) - 1), 0.02)
        # The aperture takes light of the neighbour, more of it as the seeing gets worse.
        self.assertGreater(float(np.mean(summed[-5:])), float(np.mean(blend[-5:])) + 0.005)
        dark = [(row.profile_flux, row.profile_error) for row in table.star("dark")]
        pull = np.array([(f - self.flux[23]) / e for f, e in dark])
        self.assertLess(abs(float(pull.mean())), 4 / math.sqrt(COUNT))
        self.assertLess(float(pull.std()), 1.6)
        plain = self.folder / "q.csv"
        self.json("measure", self.n, "--stars", stars, "--out", plain)
        self.assertTrue(math.isnan(read_series(plain).rows[0].profile_flux))
        self.assertNotEqual(read_series(plain).rows[0].sky, table.rows[0].sky)
        self.assertEqual(self.ulvar("measure", self.n, "--stars", stars, "--out", self.folder / "r.csv", "--sky", "guess")[0], 2)

    def test_magnitudes_by_one_star(self) -> None:
        table, out = self.folder / "s.csv", self.folder / "m.csv"
        self.json("measure", self.n, "--stars", self.stars(("T", "target", 20), ("a", "comparison", 22)), "--out", table)
        code, body = self.json("magnitudes", table, "--star", "a=12.25", "--out", out)
        self.assertEqual((code, len(body["zeros"])), (0, COUNT))
        with out.open() as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual({row["magnitude"] for row in rows if row["name"] == "a"}, {"12.2500"})
        target = [float(row["magnitude"]) for row in rows if row["name"] == "T"]
        self.assertAlmostEqual(float(np.mean(target)), 12.25 - 2.5 * math.log10(6e4 / 6.6e4), delta=0.01)
        code, text, _ = self.ulvar("magnitudes", table, "--star", "a=12.25", "--out", out, "--replace")
        self.assertIn("by the star a", text)
        for words, told in (
            ((), "--catalogue PATH, or by --star"), (("--star", "a"), "NAME=MAG"), (("--star", "a=bright"), "--star takes NAME=MAG, not"),
            (("--star", "a=12", "--catalogue", "x.csv"), "--catalogue PATH, or by --star"),
        ):  # fmt: skip
            code, _, error = self.ulvar("magnitudes", table, *words, "--out", out, "--replace")
            self.assertEqual(code, 2, words)
            self.assertIn(told, error)
        code, body = self.json("magnitudes", table, "--star", "nobody=12", "--out", out, "--replace")
        self.assertEqual(code, 3)
        self.assertIn("nobody was not measured", body["reason"])
        catalogue = self.folder / "c.csv"
        catalogue.write_text("ra,dec,mag\n115.5,41.3,12.0\n")
        code, body = self.json("magnitudes", table, "--catalogue", catalogue, "--out", out, "--replace")
        self.assertEqual(code, 3)
        self.assertIn("place on the sky" if "place" in body["reason"] else "catalogue knows", body["reason"])
