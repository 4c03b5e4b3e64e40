"""A night whose file is damaged is made anew from what lies beside it; nothing is thrown away."""

import json
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from unittest import mock

import numpy as np
from tools.cases import FolderCase, stamps

from ulvar.engine import JobContext
from ulvar.night import Night, NightError, run_station
from ulvar.night.recipe import record_step
from ulvar.photometry import ListedStar


class Damaged(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(4)
        for i in range(3):
            bias = rng.normal(300, 5, (40, 60)).astype(np.uint16)
            self.write(f"raw/b{i}.fits", bias, IMAGETYP="Bias", EXPTIME=0.0, GAIN=1, INSTRUME="Kvist")
            sky = rng.normal(900, 20, (40, 60)).astype(np.uint16)
            self.write(f"raw/l{i}.fits", sky, IMAGETYP="Light", EXPTIME=30.0, GAIN=1, INSTRUME="Kvist", OBJECT="T")
        night = Night.create(self.folder / "raw-night", [self.folder / "raw"])
        settings = night.settings
        settings.masters.method = "median"
        night.set_settings(settings)
        for station in ("intake", "masters"):
            self.assertEqual(run_station(night, JobContext(), station).problem, "")
            record_step(night, station)
        night.set_stars([ListedStar("A", "target", 10.0, 20.0)])
        record_step(night, "masters")
        self.made = {p.name for p in night.products.rglob("*.fits")}
        night.close()
        self.place = self.folder / "raw-night"
        self.file = self.place / "night.sqlite"

    def looked_over(self, aside: str = "night.sqlite.damaged-1") -> Night:
        """Open the night, and see that nothing is lost that can be known."""
        night = Night.for_path(self.place)
        self.addCleanup(night.close)
        self.assertTrue((self.place / aside).exists())
        self.assertEqual(night.raw_paths, [self.folder / "raw"])
        self.assertEqual(night.settings.masters.method, "median")
        before = stamps(night.products)
        for station in ("intake", "masters"):
            self.assertEqual(run_station(night, JobContext(), station).problem, "")
        self.assertEqual(len(night.exposures), 6)
        self.assertEqual([(s.name, s.ra) for s in night.stars()], [("A", 10.0)])
        # The master that is there is the one that would be made.
        self.assertEqual(stamps(night.products), before)
        self.assertEqual({Path(p.output).name for p in night.products_of("master").values()}, self.made)
        told = [f for f in night.findings() if f.code == "night_rebuilt"]
        self.assertEqual(len(told), 1)
        self.assertIn(aside, told[0].text)
        return night

    def test_garbage_halves_and_nothing(self) -> None:
        good = self.file.read_bytes()
        kept = self.folder / "kept"
        shutil.copytree(self.place, kept)
        for data in (b"", b"no database" * 500, good[: len(good) // 2], good[:100] + b"\xff" * 4000 + good[4100:]):
            with self.subTest(len(data)):
                shutil.rmtree(self.place)
                shutil.copytree(kept, self.place)
                self.file.write_bytes(data)
                self.looked_over().close()
                self.assertEqual((self.place / "night.sqlite.damaged-1").read_bytes(), data)

    def test_a_torn_value_is_noticed_when_the_night_is_opened(self) -> None:
        for table, column in (("meta", "value"), ("exposures", "facts"), ("products", "body"), ("looks", "body")):
            with self.subTest(table):
                with closing(sqlite3.connect(self.file)) as connection:
                    connection.execute(f"UPDATE {table} SET {column} = substr({column}, 1, length({column}) - 1)")
                    connection.commit()
                for path in self.place.glob("night.sqlite.damaged*"):
                    path.unlink()
                self.looked_over().close()

    def test_a_byte_that_is_no_letter_is_noticed_when_the_night_is_opened(self) -> None:
        with closing(sqlite3.connect(self.file)) as connection:
            for path, body in connection.execute("SELECT path, body FROM looks LIMIT 1").fetchall():
                spoiled = body.encode().replace(b"at_maximum", b"at_m\xe1ximum")
                connection.execute("UPDATE looks SET body = CAST(? AS TEXT) WHERE path = ?", (spoiled, path))
            connection.commit()
        self.looked_over()

    def test_a_character_that_became_another_is_noticed_when_the_night_is_opened(self) -> None:
        for table, column in (("meta", "value"), ("exposures", "facts"), ("products", "body"), ("looks", "body")):
            for at, new in ((-10, "\x01"), (-10, "7"), (2, "#"), (-9, " "), (-1, "-")):
                with self.subTest(table, at=at, new=new):
                    with closing(sqlite3.connect(self.file)) as connection:
                        rows = connection.execute(f"SELECT rowid, {column} FROM {table} WHERE {column} IS NOT NULL")
                        row, text = rows.fetchall()[-1]
                        at = at % len(text)
                        spoiled = text[:at] + (new if text[at] != new else "8") + text[at + 1 :]
                        connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (spoiled, row))
                        connection.commit()
                    for path in self.place.glob("night.sqlite.damaged*"):
                        path.unlink()
                    self.looked_over().close()

    def test_values_of_before_there_were_sums_are_read(self) -> None:
        with closing(sqlite3.connect(self.file)) as connection:
            for table, column in (("meta", "value"), ("exposures", "facts"), ("products", "body"), ("looks", "body")):
                connection.execute(f"UPDATE {table} SET {column} = substr({column}, 1, length({column}) - 9)")
            connection.commit()
        night = Night.for_path(self.place)
        self.assertEqual(list(self.place.glob("night.sqlite.damaged*")), [])
        self.assertTrue(night.exposures and night.looks() and night.meta("raw"))
        night.close()

    def test_values_of_other_names_are_found_anew(self) -> None:
        """A value is one of JSON, but not what this version writes."""
        night = Night.for_path(self.place)
        sound = night.fields()
        night.set_meta("fields", [{"kex": 1}, *(f.as_json() for f in sound)])
        night.set_meta("ceilings", {"one": {"saturation_adx": 1.0}})
        self.assertEqual(night.fields(), sound)
        self.assertEqual(night.ceilings(), {})
        night.close()

    def test_a_night_that_cannot_be_opened_now_is_not_taken_for_damaged(self) -> None:
        before = stamps(self.place)
        # Somebody holds it longer than anybody waits.
        held = sqlite3.connect(self.file, isolation_level=None)
        self.addCleanup(held.close)
        busy = sqlite3.OperationalError("database is locked")
        refused = self.assertRaisesRegex(NightError, "cannot be opened: database is locked")
        with mock.patch("ulvar.night.store.sqlite3.connect", side_effect=busy), refused:
            Night(self.place)
        self.assertEqual(stamps(self.place), before)
        # A table that is missing is damage.
        held.execute("DROP TABLE looks")
        held.close()
        self.looked_over().close()

    def test_a_second_damage_does_not_replace_what_was_kept(self) -> None:
        self.file.write_bytes(b"first" * 1000)
        self.looked_over().close()
        self.file.write_bytes(b"second" * 1000)
        self.looked_over("night.sqlite.damaged-2").close()
        self.assertEqual((self.place / "night.sqlite.damaged-1").read_bytes()[:5], b"first")

    def test_raw_files_are_known_without_the_list_beside_it(self) -> None:
        (self.place / "raw.json").unlink()
        self.file.write_bytes(b"first" * 1000)
        self.looked_over().close()
        # In a folder of another name nothing tells them; then nothing is touched.
        other = self.folder / "other"
        shutil.copytree(self.place, other)
        (other / "raw.json").write_text(json.dumps({"raw": ["/nowhere/at/all"]}))
        (other / "night.sqlite").write_bytes(b"second" * 1000)
        before = stamps(other)
        with self.assertRaisesRegex(NightError, "nothing tells which exposures"):
            Night(other)
        self.assertEqual(stamps(other), before)

    def test_a_list_that_is_none(self) -> None:
        for text in ("", "[", "7", '{"raw": 3}', '{"raw": [3, null]}', '"x"'):
            (self.place / "raw.json").write_text(text)
            self.file.write_bytes(b"again" * 1000)
            for path in self.place.glob("night.sqlite.damaged*"):
                path.unlink()
            self.looked_over().close()
