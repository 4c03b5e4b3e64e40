"""What catalogues tell beside places: identifiers, variable stars, errors; what they are, cover, and are called."""

import math
import time
from pathlib import Path
from unittest import mock

import fitsio
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from tests.cli.support import Command
from ulvar.astrometry import (
    CatalogueError,
    StarCatalogue,
    catalogues_in,
    coverage_map,
    describe_catalogue,
    import_stars,
    load_catalogue,
    name_catalogue,
    star_by_id,
    tiles,
    write_tiles,
)

# Too long for a float: the last digits would be lost.
LONG = 5853498713190525696
NAMES = ["source_id", "ra", "dec", "phot_g_mean_mag", "phot_g_mean_mag_error", "mag", "e_mag", "phot_variable_flag"]
ROWS = [
    (LONG, 10.0, -5.0, 9.0, 0.01, 8.9, 0.02, "VARIABLE"),
    (LONG + 1, 200.0, 60.0, 10.0, 0.03, 9.9, 0.04, "CONSTANT"),
    (LONG + 2, 350.0, 0.5, 11.0, 0.05, 10.9, 0.06, "NOT_AVAILABLE"),
]


class Words(Command):
    def tables(self) -> dict[str, Path]:
        """Write the same stars as every kind of table."""
        paths = {ending: self.folder / f"t.{ending}" for ending in ("csv", "txt", "parquet", "fits", "vot")}
        for ending, sign in (("csv", ","), ("txt", " ")):
            paths[ending].write_text("\n".join(sign.join(map(str, row)) for row in [NAMES, *ROWS]) + "\n")
        columns = list(zip(*ROWS))
        pq.write_table(pa.table(dict(zip(NAMES, map(list, columns)))), paths["parquet"])
        fitsio.write(
            str(paths["fits"]), [np.array(c) if k < 7 else np.array(c, dtype="S13") for k, c in enumerate(columns)], names=NAMES,
        )  # fmt: skip
        kinds = {"source_id": "long", "phot_variable_flag": "char"}
        head = "".join(
            f'<FIELD name="{n}" datatype="{kinds.get(n, "double")}"{" arraysize=" + chr(34) + "*" + chr(34) if n in ("phot_variable_flag",) else ""}/>'
            for n in NAMES
        )
        body = "".join("<TR>" + "".join(f"<TD>{v}</TD>" for v in row) + "</TR>" for row in ROWS)
        paths["vot"].write_text(f"<VOTABLE><RESOURCE><TABLE>{head}<DATA><TABLEDATA>{body}</TABLEDATA></DATA></TABLE></RESOURCE></VOTABLE>")
        return paths

    def check(self, stars: StarCatalogue, name: str) -> None:
        order = np.argsort(stars.mag)
        one = stars.select(order)
        assert one.ids is not None and one.variable is not None, name
        self.assertEqual([str(i) for i in one.ids], [str(LONG), str(LONG + 1), str(LONG + 2)], name)
        np.testing.assert_array_equal(one.variable, [1.0, 0.0, math.nan], name)
        np.testing.assert_allclose(one.mag, [8.9, 9.9, 10.9])
        np.testing.assert_allclose(one.bands["G"], [9.0, 10.0, 11.0])
        self.assertEqual(sorted(one.bands), ["G"], name)
        np.testing.assert_allclose(one.errors["G"], [0.01, 0.03, 0.05])
        np.testing.assert_allclose(one.errors["mag"], [0.02, 0.04, 0.06])

    def test_of_every_kind_of_table_and_through_tiles(self) -> None:
        for name, path in self.tables().items():
            self.check(load_catalogue(path, ids=True), name)
            tiles = self.folder / f"tiles-{name}"
            import_stars(path, tiles)
            self.check(load_catalogue(tiles, ids=True), name)
            self.assertIsNone(load_catalogue(tiles).ids, "they are read where they are asked for")

    def test_a_table_without_is_added(self) -> None:
        tiles = self.folder / "tiles"
        import_stars(self.tables()["csv"], tiles)
        other = self.folder / "other.csv"
        other.write_text("ra,dec,mag\n10.5,-5.2,12.5\n")
        import_stars(other, tiles)
        stars = load_catalogue(tiles, ids=True)
        self.assertEqual(len(stars), 4)
        assert stars.ids is not None and stars.variable is not None
        k = int(np.argmax(stars.mag))
        self.assertEqual((str(stars.ids[k]), math.isnan(stars.variable[k]), math.isnan(stars.errors["mag"][k])), ("", True, True))

    def test_other_words_for_variable(self) -> None:
        for words, told in (("1,0,", [1, 0, math.nan]), ("yes,no,?", [1, 0, math.nan]), ("True,False,", [1, 0, math.nan])):
            path = self.folder / "v.csv"
            path.write_text("ra,dec,mag,variable\n" + "".join(f"{k},{k},{k},{w}\n" for k, w in enumerate(words.split(","), 1)))
            np.testing.assert_array_equal(load_catalogue(path).variable, told)

    def test_a_star_by_its_name(self) -> None:
        tiles = self.folder / "tiles"
        path = self.folder / "named.csv"
        path.write_text("ra,dec,mag,name,epoch,pmra,pmdec\n10,20,8,Tarn 12,2016,100,-50\n50,-20,9,Tarn 13,2016,0,0\n")
        import_stars(path, tiles)
        self.assertEqual(star_by_id(tiles, " tarn12"), ("Tarn 12", 10.0, 20.0, 2016.0, 100.0, -50.0))
        self.assertIsNone(star_by_id(tiles, "Tarn 1"))
        self.assertIsNone(star_by_id(tiles, ""))
        (tiles / "bad-0000.parquet").write_text("no")
        with self.assertRaisesRegex(CatalogueError, "bad-0000"):
            star_by_id(tiles, "nobody")


class Interrupted(Command):
    """An import that was ended is made again: the tiles are those of one that nobody disturbed."""

    def undisturbed(self) -> tuple[Path, dict[str, bytes]]:
        table = self.folder / "t.csv"
        table.write_text("ra,dec,mag\n" + "".join(f"{r[1]},{r[2]},{r[3]}\n" for r in ROWS))
        import_stars(table, self.folder / "one")
        return table, {path.name: path.read_bytes() for path in (self.folder / "one").iterdir()}

    def test_a_half_tile_is_no_tile(self) -> None:
        table, wanted = self.undisturbed()
        other = self.folder / "two"
        other.mkdir()
        (other / ".ulvar-1-1-0a0b0c0d.parquet").write_bytes(b"half")
        self.assertEqual(catalogues_in(other), [])
        import_stars(table, other)
        self.assertEqual({p.name: p.read_bytes() for p in other.iterdir() if not p.name.startswith(".")}, wanted)
        self.assertEqual(describe_catalogue(other).tiles, 3)
        self.assertEqual(len(load_catalogue(other).ra), 3)

    def test_between_two_tiles(self) -> None:
        table, wanted = self.undisturbed()
        other, real, calls = self.folder / "two", tiles.atomic_path, 0

        def ended(*arguments, **named):
            nonlocal calls
            calls += 1
            if calls == 2:
                raise KeyboardInterrupt
            return real(*arguments, **named)

        with mock.patch.object(tiles, "atomic_path", ended), self.assertRaises(KeyboardInterrupt):
            import_stars(table, other)
        self.assertEqual(len(list(other.glob("*.parquet"))), 2)
        import_stars(table, other)
        self.assertEqual({path.name: path.read_bytes() for path in other.iterdir()}, wanted)

    def test_the_table_is_never_in_memory_as_a_whole(self) -> None:
        given, written, ahead = 0, 0, []

        def one_by_one():
            nonlocal given
            for place in range(30):
                given += 1
                ahead.append(given - written)
                yield f"0-{place}", {"ra": np.arange(2.0), "dec": np.zeros(2)}

        def slow(path, columns):
            nonlocal written
            time.sleep(0.002)
            path.write_bytes(b"a tile")
            written += 1

        with mock.patch.object(tiles, "_write", slow):
            self.assertEqual(tiles._write_all(self.folder, one_by_one()), 30)
        self.assertLessEqual(max(ahead), 4)
        self.assertEqual(len(list(self.folder.glob("*.parquet"))), 30)


class Described(Command):
    def sky(self, folder: Path, low: float, high: float, count: int = 4000) -> None:
        rng = np.random.default_rng(2)
        dec = np.degrees(np.arcsin(rng.uniform(math.sin(math.radians(low)), math.sin(math.radians(high)), count)))
        none = np.zeros(count)
        write_tiles(
            [
                StarCatalogue(
                    rng.uniform(0, 360, count), dec, none + 2016.0, none + 1.5, none, rng.uniform(5, 15, count), {"V": none + 9},
                )
            ],
            folder,
        )  # fmt: skip

    def test_what_it_is(self) -> None:
        north = self.folder / "sets" / "north"
        self.sky(north, 30.0, 90.0)
        name_catalogue(north, name="North", licence="Free to use", origin="made up")
        facts = describe_catalogue(north)
        self.assertEqual((facts.name, facts.licence, facts.origin, facts.stars), ("North", "Free to use", "made up", 4000))
        # A quarter of the sky lies north of 30 degrees.
        self.assertAlmostEqual(facts.covered, 0.25, delta=0.02)
        self.assertAlmostEqual(facts.depth_mag, 14.5, delta=0.1)
        self.assertEqual((facts.epochs, facts.bands, facts.has), ((2016.0, 2016.0), ("V",), ("proper motions",)))
        lines = coverage_map(facts.places)
        self.assertTrue(all("#" in line for line in lines[:5]))
        self.assertTrue(all(set(line) == {"."} for line in lines[6:]))
        # Adding stars leaves the words.
        self.sky(north, -80.0, -70.0, 100)
        self.assertEqual(describe_catalogue(north).name, "North")
        name_catalogue(north, licence="Other")
        self.assertEqual((describe_catalogue(north).name, describe_catalogue(north).licence), ("North", "Other"))

    def test_coverage_map_has_east_at_the_left(self) -> None:
        lines = coverage_map(np.array([[345.0, 85.0, 9.0, 9.0], [5.0, -85.0, 9.0, 9.0]]), 36, 18)
        self.assertEqual([(k, line.index("#")) for k, line in enumerate(lines) if "#" in line], [(0, 1), (17, 35)])

    def test_several_beside_each_other(self) -> None:
        sets = self.folder / "sets"
        self.sky(sets / "a", 0.0, 20.0, 500)
        table = self.folder / "t.csv"
        table.write_text("ra,dec,mag,id\n10,20,8,x1\n")
        licence = self.folder / "LICENCE.txt"
        licence.write_text("Use it.\nAll of it.\n")
        code, _ = self.json("catalogue", "import", table, "--out", sets / "b", "--name", "Mine", "--licence", licence)
        self.assertEqual(code, 0)
        self.assertEqual([p.name for p in catalogues_in(sets)], ["a", "b"])
        code, body = self.json("catalogue", "show", sets)
        self.assertEqual((code, [c["name"] for c in body["catalogues"]]), (0, ["a", "Mine"]))
        self.assertEqual(body["catalogues"][1]["licence"], "Use it.\nAll of it.")
        self.assertEqual(body["catalogues"][1]["origin"], "t.csv")
        self.assertEqual(body["catalogues"][1]["has"], ["identifiers"])
        code, text, _ = self.ulvar("catalogue", "show", sets)
        self.assertIn("Mine (", text)
        self.assertIn("licence: Use it.", text)
        self.assertIn("#", text)
        code, body = self.json("catalogue", "show", self.folder / "nowhere")
        self.assertEqual((code, len(body["failed"])), (3, 1))
        with self.assertRaisesRegex(CatalogueError, "no catalogue tiles"):
            describe_catalogue(self.folder)
        with self.assertRaisesRegex(CatalogueError, "no catalogue tiles"):
            name_catalogue(self.folder, name="x")
