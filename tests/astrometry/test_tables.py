"""Tables of stars of many makes become a catalogue of tiles: nothing doubled, nothing lost, bad rows counted and named."""

import gzip
import json
import math
import os
import time
from pathlib import Path
from unittest import mock

import fitsio
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from tools.cases import files_under
from tools.same import kept

from tests.cli.support import Command
from ulvar.astrometry import CatalogueError, import_stars, load_catalogue
from ulvar.astrometry import tiles as tiles_module
from ulvar.astrometry.tables import star_rows
from ulvar.astrometry.tiles import tile_numbers, tiles_near


class TableCase(Command):
    def text(self, text: str, name: str = "t.csv") -> Path:
        path = self.folder / name
        path.write_text(text, encoding="utf-8")
        return path

    def columns(self, path: Path, given: dict[str, str] | None = None) -> dict[str, list[float]]:
        """Return all that a table holds."""
        whole: dict[str, list[float]] = {}
        for rows in star_rows(path, given):
            for name, values in rows.columns.items():
                whole.setdefault(name, []).extend(values.tolist())
        return whole


class Dialects(TableCase):
    def test_whatever_separates_columns(self) -> None:
        for separator in (",", ";", "\t", "|"):
            rows = [
                "ra dec mag".replace(" ", separator), f"10.5{separator}-5{separator}7.25", f"11{separator}6{separator}",
            ]  # fmt: skip
            found = self.columns(self.text("\n".join(rows)))
            self.assertEqual((found["ra"], found["dec"], found["mag"][0]), ([10.5, 11.0], [-5.0, 6.0], 7.25))
            self.assertTrue(math.isnan(found["mag"][1]))
        found = self.columns(self.text("# made up\n\n  RAJ2000   DEJ2000 Vmag\n 10.5  -5.0   7.25\n# more\n 11.0 6 8\n", "t.txt"))
        self.assertEqual((found["ra"], found["V"]), ([10.5, 11.0], [7.25, 8.0]))

    def test_names_of_other_catalogues(self) -> None:
        found = self.columns(
            self.text(
                "source_id,ra,dec,ref_epoch,pmra,pmdec,phot_g_mean_mag,phot_bp_mean_mag,parallax,ra_error\n"
                "1,10,20,2016,3,-4,12.5,13,5,0.1\n"
            )
        )
        self.assertEqual(set(found), {"ra", "dec", "epoch", "pmra", "pmdec", "G", "BP", "id"})
        self.assertEqual((found["epoch"], found["pmra"], found["BP"]), ([2016.0], [3.0], [13.0]))
        own = self.columns(self.text("alpha,delta,hmag\n10,20,9\n"), {"mag": "HMAG"})
        self.assertEqual((own["ra"], own["mag"]), ([10.0], [9.0]))
        self.assertNotIn("hmag", own)
        with self.assertRaisesRegex(CatalogueError, "no column brightness, only ra, dec"):
            self.columns(self.text("ra,dec\n1,2\n"), {"mag": "brightness"})

    def test_angles_as_people_write_them(self) -> None:
        found = self.columns(self.text("ra,dec\n07:42:10.5,+41:18:03\n7h42m10.5s,-00:30:00\n115.5,2\n"))
        np.testing.assert_allclose(found["ra"], [115.54375, 115.54375, 115.5])
        np.testing.assert_allclose(found["dec"], [41.3008333, -0.5, 2.0], atol=1e-7)

    def test_packed_by_gzip(self) -> None:
        path = self.folder / "t.csv.gz"
        path.write_bytes(gzip.compress(b"ra,dec,mag\n1,2,3\n4,5,6\n"))
        self.assertEqual(self.columns(path)["mag"], [3.0, 6.0])
        path.write_bytes(path.read_bytes()[:-9])
        with self.assertRaises(CatalogueError):
            self.columns(path)

    def test_parquet_and_fits_with_units(self) -> None:
        path = self.folder / "t.parquet"
        pq.write_table(pa.table({"RA": [10.0, 20.0], "DEC": [1, 2], "V": [7.5, None], "name": ["a", "b"]}), path)
        found = self.columns(path)
        self.assertEqual((found["ra"], found["dec"], set(found)), ([10.0, 20.0], [1.0, 2.0], {"ra", "dec", "V", "id"}))
        self.assertEqual((found["V"][0], math.isnan(found["V"][1])), (7.5, True))
        made = self.folder / "t.fits"
        data = np.zeros(3, dtype=[("RA", "f8"), ("DEC", "f8"), ("PMRA", "f4"), ("VMAG", "f4"), ("ID", "i8")])
        data["RA"], data["DEC"], data["PMRA"], data["VMAG"] = [1.0, 2.0, 3.0], [0.5, 9.0, -0.25], 0.012, [7, 8, 9]
        fitsio.write(str(made), data, units=["rad", "rad", "arcsec/yr", "mag", ""], clobber=True)
        with mock.patch("ulvar.astrometry.tables._ROWS", 2):
            portions = list(star_rows(made))
        self.assertEqual([len(p.columns["ra"]) for p in portions], [1, 1])
        np.testing.assert_allclose(portions[1].columns["ra"], [math.degrees(3)])
        np.testing.assert_allclose(portions[0].columns["pmra"], [12.0], rtol=1e-6)
        self.assertEqual((portions[0].bad, portions[0].why), (1, "row 2 has no place on the sky"))

    def test_bad_rows_are_counted_and_the_first_is_named(self) -> None:
        path = self.text("ra,dec,mag\n1,2,3\nx,2,3\n4,95,6\n7,8\n9,10,11\n# the end\n")
        (rows,) = star_rows(path)
        self.assertEqual((rows.columns["ra"].tolist(), rows.bad), ([1.0, 9.0], 3))
        self.assertEqual(rows.why, "a row has 2 columns, not 3")

    def test_what_is_no_table(self) -> None:
        (self.folder / "b.parquet").write_bytes(b"PAR1 nothing")
        (self.folder / "b.fits").write_bytes(b"SIMPLE  =                    T" + b" " * 3000)
        (self.folder / "b.csv").write_bytes(b"ra,dec\n\xff\xfe,\x00\n")
        fitsio.write(str(self.folder / "i.fits"), np.zeros((4, 5), np.float32), clobber=True)
        pq.write_table(pa.table({"ra": ["a"], "dec": ["b"]}), self.folder / "w.parquet")
        for name in ("b.parquet", "b.fits", "i.fits", "w.parquet", "none.csv"):
            with self.subTest(name), self.assertRaisesRegex(CatalogueError, name):
                list(star_rows(self.folder / name))
        with self.assertRaisesRegex(CatalogueError, "b.csv"):
            load_catalogue(self.folder / "b.csv")


class Tiles(TableCase):
    def setUp(self) -> None:
        super().setUp()
        # Some fifty tiles behave as sixteen hundred do.
        large = mock.patch.object(tiles_module, "_ZONE_DEG", 30.0)
        large.start()
        self.addCleanup(large.stop)

    def table(self, count: int, seed: int = 1) -> Path:
        rng = np.random.default_rng(seed)
        ra, dec = rng.uniform(0, 360, count), np.degrees(np.arcsin(rng.uniform(-1, 1, count)))
        path = self.folder / f"t{seed}.parquet"
        pq.write_table(pa.table({"ra": ra, "dec": dec, "V": rng.uniform(6, 14, count)}), path)
        return path

    def test_in_portions_or_at_once_and_never_doubled(self) -> None:
        path = self.table(5000)
        made = import_stars(path, self.folder / "whole")
        self.assertEqual((made.stars, made.bad), (5000, 0))
        with mock.patch.object(tiles_module, "_HELD", 700), mock.patch("ulvar.astrometry.tables._ROWS", 300):
            parts = import_stars(path, self.folder / "parts")
            import_stars(path, self.folder / "parts")
        self.assertEqual((parts.stars, parts.tiles), (made.stars, made.tiles))
        both = [load_catalogue(self.folder / name) for name in ("whole", "parts")]
        for one in both:
            self.assertEqual(len(one), 5000)
        order = [np.lexsort((one.dec, one.ra)) for one in both]
        for name in ("ra", "dec", "mag"):
            np.testing.assert_array_equal(getattr(both[0], name)[order[0]], getattr(both[1], name)[order[1]])
        self.assertEqual(files_under(self.folder / "whole"), files_under(self.folder / "parts"))

    def test_another_table_with_other_bands_is_added(self) -> None:
        import_stars(self.table(300), self.folder / "c")
        more = self.text("ra,dec,V,R\n10,20,5,6\n11,21,7,8\n")
        import_stars(more, self.folder / "c")
        stars = load_catalogue(self.folder / "c")
        self.assertEqual(len(stars), 302)
        found = stars.cone(10.0, 20.0, 0.01)
        self.assertEqual((found.bands["V"].tolist(), found.bands["R"].tolist()), ([5.0], [6.0]))
        self.assertEqual(int(np.isfinite(stars.bands["R"]).sum()), 2)
        kept(self, found)

    def test_tiles_are_of_about_one_area_and_a_cone_misses_none(self) -> None:
        rng = np.random.default_rng(3)
        ra, dec = rng.uniform(0, 360, 400_000), np.degrees(np.arcsin(rng.uniform(-1, 1, 400_000)))
        zone, place = tile_numbers(ra, dec, 5.0)
        _, counts = np.unique(zone * 1000 + place, return_counts=True)
        # 242 stars each on average; those around the poles are triangles and small.
        self.assertLess(np.percentile(counts, 99) / np.percentile(counts, 1), 2.2)
        names = np.array([f"{int(z):03d}-{int(p):04d}" for z, p in zip(zone, place)])
        for at in ((0.1, 0.0, 2.0), (359.9, 44.9, 3.0), (120.0, 88.0, 4.0), (200.0, -90.0, 1.0), (77.0, -37.5, 0.01)):
            x0, d0, a0 = (math.radians(v) for v in (at[0], at[1], at[2]))
            d, a = np.radians(dec), np.radians(ra)
            away = np.arccos(np.clip(np.sin(d0) * np.sin(d) + np.cos(d0) * np.cos(d) * np.cos(a - x0), -1, 1))
            self.assertLessEqual(set(names[away <= a0]), tiles_near(*at, 5.0), at)
            self.assertLess(len(tiles_near(*at, 5.0)), 80)
        self.assertEqual(tiles_near(1.0, 2.0, 0.1, 5.0), {"018-0000"}, "and no other is read")

    def test_a_catalogue_of_before_is_read_and_added_to_as_it_is(self) -> None:
        old = self.folder / "old"
        old.mkdir()
        # Zones of 2 degrees: 41.3 lies in zone 65, which has 135 tiles.
        pq.write_table(pa.table({"ra": [115.5], "dec": [41.3], "mag": [9.0]}), old / "065-0043.parquet")
        self.assertEqual(len(load_catalogue(old, near=[(115.5, 41.3, 0.5)])), 1)
        import_stars(self.text("ra,dec,mag\n115.6,41.4,10\n115.5,41.3,9\n"), old)
        self.assertEqual({p.name for p in old.glob("*.parquet")}, {"065-0043.parquet"})
        self.assertEqual(len(load_catalogue(old, near=[(115.5, 41.3, 0.5)])), 2)

    def test_an_import_that_breaks_off_leaves_what_was_there(self) -> None:
        folder = self.folder / "c"
        import_stars(self.table(400), folder)
        before = {p.name: p.read_bytes() for p in folder.iterdir()}
        with (
            mock.patch.object(tiles_module, "_HELD", 100),
            mock.patch("ulvar.astrometry.tables._ROWS", 90),
            mock.patch.object(tiles_module, "_write_all", side_effect=OSError(28, "No space left on device", "c")),
            self.assertRaises(OSError),
        ):
            import_stars(self.table(900, seed=2), folder)
        self.assertEqual({p.name: p.read_bytes() for p in folder.iterdir()}, before)

    def test_an_interrupted_import_goes_on_where_it_was(self) -> None:
        path, folder = self.table(1500, seed=3), self.folder / "c"
        small = mock.patch.object(tiles_module, "_HELD", 200), mock.patch("ulvar.astrometry.tables._ROWS", 100)
        split = tiles_module._split
        calls = []

        def broken(*told):  # type: ignore[no-untyped-def]
            calls.append(1)
            if len(calls) == 5:
                raise KeyboardInterrupt
            return split(*told)

        with small[0], small[1], mock.patch.object(tiles_module, "_split", broken), self.assertRaises(KeyboardInterrupt):
            import_stars(path, folder)
        (aside,) = folder.glob(".import-*")
        times = {p.name: p.stat().st_mtime_ns for p in aside.glob("*.parquet")}
        self.assertGreater(len(times), 100)
        # Half a portion that was being laid by when the machine went down.
        (aside / "000-0000.4.parquet").write_text("half")
        laid = []

        def counted(columns, height):  # type: ignore[no-untyped-def]
            laid.append(len(columns["ra"]))
            return split(columns, height)

        with small[0], small[1], mock.patch.object(tiles_module, "_split", counted):
            made = import_stars(path, folder)
        self.assertEqual(made.stars, 1500)
        # Four times 200 rows were laid by before; they are not again.
        self.assertEqual(sum(laid), 700)
        whole = self.folder / "whole"
        import_stars(path, whole)
        one, other = load_catalogue(folder), load_catalogue(whole)
        for name in ("ra", "dec", "mag"):
            np.testing.assert_array_equal(np.sort(getattr(one, name)), np.sort(getattr(other, name)))
        self.assertEqual(files_under(folder), files_under(whole), "nothing is left beside the tiles")

    def test_another_table_does_not_go_on_with_it(self) -> None:
        path, folder = self.table(1500, seed=3), self.folder / "c"
        with (
            mock.patch.object(tiles_module, "_HELD", 200), mock.patch("ulvar.astrometry.tables._ROWS", 100),
            mock.patch.object(tiles_module, "_write_all", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt),
        ):  # fmt: skip
            import_stars(path, folder)
        time.sleep(0.01)
        pq.write_table(pa.table({"ra": [1.0], "dec": [2.0], "V": [3.0]}), path)
        import_stars(path, folder)
        self.assertEqual(len(load_catalogue(folder)), 1)
        (left,) = folder.glob(".import-*")
        os.utime(left, (1, 1))
        import_stars(path, folder)
        self.assertEqual(list(folder.glob(".import-*")), [], "what nobody went on with for long goes")

    def test_on_the_command_line(self) -> None:
        good = self.text("ra,dec,hmag\n10,20,9\n11,21,8\nx,1,2\n", "good.csv")
        bad = self.text("x,y\n1,2\n", "bad.csv")
        code, told = self.json("catalogue", "import", good, bad, "--out", self.folder / "c", "--column", "mag=hmag", "--column", "ra=ra")
        self.assertEqual((code, told["stars"], told["files"][0]["bad_rows"]), (1, 2, 1))
        self.assertIn("row 3", told["files"][0]["first_bad"])
        self.assertIn("bad.csv", told["failed"][0])
        self.assertEqual(sorted(load_catalogue(self.folder / "c").mag), [8.0, 9.0])
        self.assertEqual(json.loads((self.folder / "c" / "catalogue.json").read_text())["zone_deg"], 30.0)
        code, text, _ = self.ulvar("catalogue", "import", good, "--out", self.folder / "d", "--column", "mag=hmag")
        self.assertIn("good.csv: 1 row could not be used: row 3 has no place on the sky", text)
        code, _, problem = self.ulvar("catalogue", "import", good, "--out", self.folder / "d", "--column", "mag")
        self.assertEqual((code, "takes OWN=NAME" in problem), (2, True))
