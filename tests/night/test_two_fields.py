"""Exposures of two fields under one name, one without stars: what is stacked, what is told, what one button mends."""

import numpy as np

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.frames import read_plane
from ulvar.night import Night, run_station
from ulvar.simulation import Psf, star_field

WIDTH, HEIGHT = 420, 300


class TwoFields(Command):
    """Four exposures of one field and three of another, all named alike; one in which only warm clusters of pixels show."""

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(21)
        # Clusters as wide as stars, which no test of sharpness keeps out.
        cx, cy = rng.uniform(10, WIDTH - 10, 45), rng.uniform(10, HEIGHT - 10, 45)
        warm = 10 ** rng.uniform(3.6, 4.6, 45)
        fields = {}
        for name in ("a", "b"):
            fields[name] = (
                rng.uniform(20, WIDTH - 20, 35), rng.uniform(20, HEIGHT - 20, 35), 10 ** rng.uniform(3.6, 5, 35),
            )  # fmt: skip
        self.moves = {
            "a0": (0, 0), "a1": (9, -6), "a2": (-7, 11), "a3": (14, 5), "b0": (0, 0), "b1": (8, 8), "b2": (-9, 6), "none": None,
        }  # fmt: skip
        for n, (name, move) in enumerate(self.moves.items()):
            x, y, flux = cx, cy, warm
            if move is not None:
                sx, sy, light = fields[name[0]]
                x, y, flux = np.append(x, sx + move[0]), np.append(y, sy + move[1]), np.append(flux, light)
            # The exposure without stars has the darkest sky, and so the best score.
            sky = star_field(rng, width=WIDTH, height=HEIGHT, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0))
            cards = {
                "IMAGETYP": "Light", "EXPTIME": 30.0, "FILTER": "V", "OBJECT": "West Field", "DATE_OBS": f"2027-02-11T20:0{n}:00",
            }  # fmt: skip
            self.write(f"raw/{name}.fits", sky.astype(np.uint16), **cards)
        self.fields = fields

    def test_the_command_stacks_the_field_that_most_show(self) -> None:
        code, body = self.json("stack", self.folder / "raw", "--out", self.folder / "s.fits")
        used = {row["file"].rpartition("/")[2]: row for row in body["frames"]}
        self.assertEqual([n for n, row in used.items() if row["used"]], ["a0.fits", "a1.fits", "a2.fits", "a3.fits"])
        self.assertEqual(code, 1)
        self.assertIn("it shows the same stars as 2 other exposures", used["b1.fits"]["reason"])
        self.assertTrue(used["none.fits"]["reason"])
        (finding,) = [f for f in body["findings"] if f["code"] == "other_field"]
        self.assertEqual(sorted(p.rpartition("/")[2] for p in finding["files"]), ["b0.fits", "b1.fits", "b2.fits"])
        self.assertEqual(body["series"][0]["used"], 4)
        # Stars of the field lie over each other: each is as sharp as in one exposure, at its place in the reference.
        image = read_plane(body["output"])
        reference = next(r for r in used.values() if r["used"] and np.allclose(r["matrix"], np.eye(2, 3)))
        dx, dy = self.moves[reference["file"].rpartition("/")[2][:2]]
        sx, sy, light = self.fields["a"]
        bright = [k for k in np.argsort(-light)[:12] if 25 < sx[k] + dx < WIDTH - 25 and 25 < sy[k] + dy < HEIGHT - 25]
        for k in bright:
            x, y = round(sx[k] + dx), round(sy[k] + dy)
            patch = image[y - 3 : y + 4, x - 3 : x + 4]
            self.assertGreater(patch[2:5, 2:5].max(), 0.9 * float(np.nanmax(patch)), k)

    def test_no_two_alike(self) -> None:
        rng = np.random.default_rng(4)
        for n in range(3):
            x, y, flux = (
                rng.uniform(20, WIDTH - 20, 30), rng.uniform(20, HEIGHT - 20, 30), 10 ** rng.uniform(3.6, 5, 30),
            )  # fmt: skip
            sky = star_field(rng, width=WIDTH, height=HEIGHT, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0))
            self.write(
                f"apart/{n}.fits", sky.astype(np.uint16), IMAGETYP="Light", EXPTIME=30.0, FILTER="V", OBJECT="West Field",
            )  # fmt: skip
        code, body = self.json("stack", self.folder / "apart", "--out", self.folder / "s.fits")
        self.assertEqual(code, 3)
        self.assertFalse((self.folder / "s.fits").exists())
        self.assertEqual(body["series"][0]["reason"], "no exposure shows the stars of another one")
        self.assertEqual([f["code"] for f in body["findings"]], ["no_agreement"])
        self.assertTrue(all(row["reason"] for row in body["frames"]))

    def test_a_night_offers_a_series_of_its_own(self) -> None:
        night = Night.create(self.folder / "night", [self.folder / "raw"])
        self.addCleanup(night.close)
        run_station(night, JobContext(), "intake")
        (series,) = night.series()
        run_station(night, JobContext(), "combine")
        findings = {f.code: f for f in night.findings("combine", series.key)}
        other = findings["other_field"]
        raws = sorted(str(self.folder / "raw" / f"{n}.fits") for n in ("b0", "b1", "b2"))
        self.assertEqual(sorted(other.files), raws)
        assert other.mend is not None
        self.assertEqual((other.mend.label, other.mend.action), ("Make a series of 3", "object:West Field 2"))
        # What is told of the three together is not told of each again.
        alone = [f for f in night.findings("combine", series.key) if f.code == "not_aligned"]
        self.assertEqual([f.files for f in alone], [(str(self.folder / "raw" / "none.fits"),)])
        night.correct(other.mend.files, "object", other.mend.action.partition(":")[2])
        self.assertEqual(sorted(len(one.files) for one in night.series()), [3, 5])
        run_station(night, JobContext(), "combine")
        stacks = {p.source: p.values["count"] for p in night.products_of("stack").values()}
        self.assertEqual(sorted(stacks.values()), [3, 4], stacks)
