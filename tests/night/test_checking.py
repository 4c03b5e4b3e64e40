"""A night's files are verified: what is damaged or gone is named, and made again when asked."""

import os
import shutil
import tempfile
from pathlib import Path

import numpy as np
from tools.cases import remember_stars, stamps

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.frames import FrameError, read_frame, read_plane, write_fits
from ulvar.frames.verifying import damage, digest_of, has_checksum
from ulvar.night import Night, run_station
from ulvar.night.checking import check_night
from ulvar.night.recipe import record_step
from ulvar.night.stations import run_combine, run_curve, run_stack, series_path
from ulvar.photometry import ListedStar
from ulvar.simulation import Psf, star_field


def flip(path: Path, at: int) -> None:
    """Turn one bit of a file, as a disk does that forgets: its size and time stay."""
    status = path.stat()
    data = bytearray(path.read_bytes())
    data[at] ^= 4
    path.write_bytes(data)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


class Sums(Command):
    def test_every_byte_of_a_product_counts(self) -> None:
        data = np.random.default_rng(1).normal(500, 20, (30, 40)).astype(np.float32)
        mask = np.zeros((30, 40), np.uint16)
        mask[3, 4] = 8
        path = self.folder / "a.fits"
        write_fits(path, data, cards={"RECIPEID": "x"}, mask=mask)
        self.assertTrue(has_checksum(str(path)))
        self.assertEqual(damage(str(path)), "")
        size = path.stat().st_size
        for at, words in (
            (700, "its header or its pixels"),
            (2880 + 100, "its header or its pixels"),
            (size - 2880 - 700, "its extension 1"),
        ):
            flip(path, at)
            with self.subTest(at):
                try:
                    self.assertIn(words, damage(str(path)))
                except FrameError as error:
                    # A header that is torn where it counts is told as such.
                    self.assertIn("its header", error.reason)
            flip(path, at)
        self.assertEqual(damage(str(path)), "")
        whole = path.read_bytes()
        path.write_bytes(whole[:-100])
        with self.assertRaisesRegex(FrameError, "cut short"):
            damage(str(path))

    def test_damaged_pixels_of_a_product_are_noticed_when_they_are_used(self) -> None:
        data = np.random.default_rng(1).normal(500, 20, (30, 40)).astype(np.float32)
        path = self.folder / "a.fits"
        write_fits(path, data, cards={"RECIPEID": "x"})
        np.testing.assert_array_equal(read_plane(str(path)), data)
        flip(path, path.stat().st_size - 2000)
        for reader in (read_plane, read_frame):
            with self.assertRaisesRegex(FrameError, "not what was written: the file is damaged"):
                reader(str(path))
        # Of a file that somebody else wrote nothing is promised.
        write_fits(path, data, replace=True)
        flip(path, path.stat().st_size - 2000)
        read_plane(str(path))

    def test_no_checksum(self) -> None:
        self.assertFalse(has_checksum(self.write("a.fits", np.zeros((5, 5), np.uint16))))
        (self.folder / "b.csv").write_text("a,b\n")
        self.assertFalse(has_checksum(str(self.folder / "b.csv")))
        self.assertEqual(len(digest_of(str(self.folder / "b.csv"))), 32)
        with self.assertRaises(FrameError):
            digest_of(str(self.folder / "none"))


class Looked(Command):
    base: Path

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.base = Path(tempfile.mkdtemp(prefix="ulvar-test-"))
        cls.addClassCleanup(shutil.rmtree, cls.base, True)

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        # Made once, and put into the same place again for each test: a night knows where its raw files are.
        self.folder, kept = self.base / "here", self.base / "kept"
        if kept.exists():
            shutil.rmtree(self.folder)
            shutil.copytree(kept, self.folder)
        else:
            self.make()
            shutil.copytree(self.folder, kept)
        self.place = self.folder / "raw-night"

    def make(self) -> None:
        rng = np.random.default_rng(4)
        x, y, flux = rng.uniform(20, 280, 40), rng.uniform(20, 180, 40), 10 ** rng.uniform(4, 5, 40)
        for i in range(3):
            sky = star_field(rng, width=300, height=200, x=x, y=y, flux_e=flux, psf=Psf.with_fwhm(3.0)) + 300
            cards = {
                "IMAGETYP": "Light", "EXPTIME": 30.0, "FILTER": "V", "OBJECT": "T", "GAIN": 1, "DATE_OBS": f"2027-02-11T20:0{i}:00",
            }  # fmt: skip
            self.write(f"raw/l{i}.fits", sky.astype(np.uint16), **cards)
            self.write(
                f"raw/d{i}.fits", rng.normal(300, 5, (200, 300)).astype(np.uint16), IMAGETYP="Dark", EXPTIME=30.0, GAIN=1,
            )  # fmt: skip
        night = Night.for_path(self.folder / "raw")
        settings = night.settings
        settings.calibrate.partial = True
        night.set_settings(settings)
        for station in ("intake", "masters", "calibrate", "combine"):
            self.assertEqual(run_station(night, JobContext(), station).problem, "", station)
            record_step(night, station)
        night.close()

    def looked(self, *words: str) -> tuple[int, dict]:
        return self.json("check", self.place, *words)

    def named(self, body: dict) -> dict[str, str]:
        return {Path(one["file"]).name: one["problem"] for one in body["problems"]}

    def test_a_sound_night(self) -> None:
        before = stamps(self.folder / "raw")
        code, body = self.looked()
        self.assertEqual((code, body["problems"], body["again"]), (0, [], []))
        # 6 raws, a master, 3 calibrated lights, 3 star tables, a stack.
        self.assertEqual(body["verified"], 14)
        self.assertEqual(stamps(self.folder / "raw"), before)
        code, out, _ = self.ulvar("check", self.folder / "raw")
        self.assertEqual((code, out.strip()), (0, "14 files are as they were"))

    def test_what_is_damaged_or_gone_is_named_and_made_again(self) -> None:
        self.assertEqual(self.looked()[0], 0)
        night = Night(self.place)
        calibrated = sorted(night.products.rglob("*l*-cal*.fits")) or sorted((night.products / "calibrated").glob("*.fits"))
        tables = sorted(night.products.rglob("*.stars.csv"))
        stacks = [Path(p.output) for p in night.products_of("stack").values()]
        night.close()
        whole = {path: path.read_bytes() for path in (calibrated[1], tables[0], stacks[0])}
        pixels = read_plane(str(stacks[0]))
        flip(calibrated[1], 9000)
        flip(tables[0], 60)
        stacks[0].unlink()
        code, body = self.looked()
        self.assertEqual(code, 1)
        self.assertEqual(
            self.named(body),
            {
                calibrated[1].name: "its header or its pixels are not what was written",
                tables[0].name: "its contents are not what they were, though nobody wrote it",
                stacks[0].name: "it is gone",
            },
        )
        self.assertEqual(body["again"], ["calibrate", "combine"])
        code, body = self.looked("--again")
        self.assertEqual(code, 0)
        self.assertTrue(all(one["mended"] for one in body["problems"]))
        for path, data in whole.items():
            with self.subTest(path.name):
                if path == stacks[0]:
                    # It tells which calibrated files it was made of; these are new ones.
                    np.testing.assert_array_equal(read_plane(str(path)), pixels)
                else:
                    self.assertEqual(path.read_bytes(), data)
        # What was damaged is kept.
        self.assertTrue(calibrated[1].with_name(f"{calibrated[1].name}.damaged").exists())
        self.assertEqual(self.looked()[1]["problems"], [])

    def test_raws(self) -> None:
        self.assertEqual(self.looked()[0], 0)
        one, two, three = (self.folder / "raw" / f"l{i}.fits" for i in range(3))
        flip(one, 6000)
        two.write_bytes(two.read_bytes()[:-2880] + b"\1" * 2880)
        three.unlink()
        held = one.read_bytes()
        code, body = self.looked("--again")
        self.assertEqual(code, 1)
        self.assertEqual(
            self.named(body),
            {
                "l0.fits": "its contents are not what they were, though nobody wrote it", "l1.fits": "it is another file than it was",
                "l2.fits": "it is gone",
            },
        )  # fmt: skip
        # Raws are nobody's to mend.
        self.assertEqual(body["again"], [])
        self.assertEqual(one.read_bytes(), held)

    def opened(self) -> Night:
        night = Night(self.place)
        self.addCleanup(night.close)
        return night

    def codes(self, night: Night, station: str) -> list[str]:
        series = night.current_series()
        assert series is not None
        return [f.code for f in night.findings(station, series.key)]

    def test_a_star_table_that_lies_is_named_where_it_is_used(self) -> None:
        night = self.opened()
        table = sorted(night.products.rglob("*.stars.csv"))[1]
        whole, line = table.read_bytes(), table.read_text().split("\n")
        stack = Path(night.products_of("stack").popitem()[1].output)
        held = stack.read_bytes()
        kept = [f.code for f in night.findings("combine", night.series()[0].key)]

        def spoiled(*, time: bool) -> None:
            status = table.stat()
            digit = next(i for i in range(len(line[0]) + 3, len(whole)) if whole[i : i + 1] in b"1234567")
            table.write_bytes(whole[:digit] + bytes([whole[digit] + 1]) + whole[digit + 1 :])
            if time:
                os.utime(table, ns=(status.st_atime_ns, status.st_mtime_ns))

        for told, spoil in (
            ("though nobody wrote it", lambda: spoiled(time=True)),
            ("it lists 39 stars, of 40", lambda: table.write_text("\n".join(line[:40]) + "\n")),
            ("has not as many columns", lambda: table.write_bytes(whole[:-30])),
            ("this is no table of stars", lambda: table.write_bytes(whole.replace(b".", b"?", 1))),
            ("no such file", table.unlink),
        ):
            with self.subTest(told):
                self.assertEqual(len(line), 42, "a line of names and 40 stars")
                spoil()
                result = run_stack(night, JobContext())
                self.assertIn(told, result.problem)
                self.assertIn(table.name, result.problem)
                self.assertEqual(self.codes(night, "combine"), [*kept, "damaged"])
                self.assertEqual(stack.read_bytes(), held)
                # What is found anew is as it was.
                self.assertEqual(run_combine(night, JobContext()).problem, "")
                record_step(night, "combine")
                self.assertEqual(table.read_bytes(), whole)
                self.assertEqual(self.codes(night, "combine"), kept)

    def test_a_series_table_that_lies_is_named_where_it_is_used(self) -> None:
        night = self.opened()
        night.set_stars([ListedStar("t", "target", x=150.0, y=100.0), ListedStar("c", "comparison", x=100.0, y=90.0)])
        for station in ("measure", "curve"):
            run_station(night, JobContext(), station)
        table = series_path(night, night.series()[0])
        self.assertTrue(table.exists())
        flip(table, table.stat().st_size - 20)
        result = run_curve(night, JobContext())
        self.assertIn("though nobody wrote it", result.problem)
        self.assertIn("damaged", self.codes(night, "curve"))
        self.assertEqual([one.problem for one in check_night(night, JobContext()) if one.problem], [result.problem.partition(": ")[2]])
        table.write_text("nothing\n")
        self.assertIn("it is not a series table", run_curve(night, JobContext()).problem)

    def test_where_there_is_no_night(self) -> None:
        code, body = self.json("check", self.folder / "nowhere")
        self.assertEqual(code, 2)
        self.assertIn("there is no night", body["error"])
        self.assertFalse((self.folder / "nowhere-night").exists())

    def test_many_at_once(self) -> None:
        night = Night(self.place)
        self.addCleanup(night.close)
        found = check_night(night, JobContext())
        self.assertEqual([c.kind for c in found].count("raw"), 6)
        self.assertEqual({c.station for c in found}, {"intake", "masters", "calibrate", "combine"})
