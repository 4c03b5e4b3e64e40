"""Two fields in three filters, interleaved: each series is worked on by itself, and none touches another's."""

import csv
import json
import sqlite3
from pathlib import Path

import numpy as np
from bench.made_series import BANDS, FIELDS, GAIN, HEIGHT, PER_SERIES, WIDTH, interleaved
from tools.cases import FolderCase, remember_stars

from ulvar.engine import JobContext
from ulvar.flows import Series
from ulvar.frames import header_of
from ulvar.night import Night, run_station
from ulvar.night.stations import curve_path, measured_files, run_curve, run_deep, run_measure, run_score, run_stack, series_path
from ulvar.photometry import ListedStar


class TwoFieldsThreeFilters(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        self.skies = interleaved(self.write)
        self.night = Night.create(self.folder / "night", [self.folder / "raw"])
        self.addCleanup(self.night.close)
        self.context = JobContext()
        run_station(self.night, self.context, "intake")

    def one(self, key: str) -> Series:
        found = self.night.series_of(key)
        assert found is not None
        return found

    def files_of(self, key: str) -> dict[str, bytes]:
        folder = self.night.series_folder(key)
        return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}

    def rows_of(self, key: str) -> list[tuple]:
        products = "SELECT kind, source, output, body FROM products WHERE series = ? ORDER BY kind, source"
        findings = "SELECT station, position, body FROM findings WHERE series = ? ORDER BY station, position"
        return [*self.night.store.rows(products, (key,)), *self.night.store.rows(findings, (key,))]

    def measure(self, series: Series, stars: tuple[int, ...]) -> dict[str, np.ndarray]:
        """Measure and return the fluxes of stars by name [e-]."""
        self.assertEqual(run_measure(self.night, self.context, series).problem, "")
        with series_path(self.night, series).open(newline="") as handle:
            rows = list(csv.DictReader(handle))
        return {f"s{k}": np.array([float(r["flux"]) * GAIN for r in rows if r["name"] == f"s{k}"]) for k in stars}

    def test_every_series_goes_all_the_way_beside_the_others(self) -> None:
        keys = [f"{name.replace(' ', '-')}-{band}" for name in FIELDS for band in BANDS]
        self.assertEqual([one.key for one in self.night.series()], keys)
        self.assertTrue(all(len(one.members) == PER_SERIES for one in self.night.series()))
        self.assertEqual(self.night.current_series(), self.one(keys[0]))
        for station in ("combine", "plate"):
            self.assertEqual({self.night.state(station, one) for one in self.night.series()}, {"empty"})

        # In any order; one is in work while others have nothing yet.
        order = [keys[i] for i in (4, 0, 2, 5, 1, 3)]
        for n, key in enumerate(order):
            before = {other: (self.files_of(other), self.rows_of(other)) for other in order[:n]}
            series = self.one(key)
            self.assertEqual(run_score(self.night, self.context, series).done, PER_SERIES)
            result = run_stack(self.night, self.context, series)
            self.assertEqual((result.problem, result.done), ("", PER_SERIES))
            for other, held in before.items():
                self.assertEqual((self.files_of(other), self.rows_of(other)), held, f"{key} touched {other}")
            self.assertEqual(self.night.state("combine", series), "done")
        self.assertEqual(set(self.night.products_of("stack")), set(keys))
        for key in keys:
            product = self.night.products_of("stack", key)[key]
            self.assertEqual(Path(product.output).name, f"{key}-stack.fits")
            self.assertEqual(header_of(product.output)["FILTER"], key[-1])
            self.assertEqual(
                {Path(f).name for f in self.one(key).files}, {Path(r).name for r in self.night.products_of("stack_frame", key)}
            )

        # Stars of a field serve all of its filters; they were chosen in V, and B lies upside down.
        west, chosen = self.skies["West Field"], (3, 8, 15, 20)
        reference = next(iter(self.night.products_of("score", keys[0]).values())).values["reference"]
        number = int(Path(reference).stem) // len(BANDS)
        roles = ("target", "comparison", "comparison", "check")
        stars = [ListedStar(f"s{k}", role, x=west[k, 0] + 0.7 * number, y=west[k, 1] - 0.4 * number) for k, role in zip(chosen, roles)]
        self.night.set_stars(stars, self.one(keys[0]))
        self.night.set_meta("star_origins", {self.one(keys[0]).field.key: reference})
        self.assertEqual(self.night.stars(self.one("West-Field-R")), stars)
        self.assertEqual(self.night.stars(self.one("East-Field-V")), [])
        for band, factor in BANDS.items():
            series = self.one(f"West-Field-{band}")
            fluxes = self.measure(series, chosen)
            for k in chosen:
                # Photons and read-out over an aperture of about 30 px; a neighbour may add a per cent.
                error = np.sqrt(factor * west[k, 2] + 30 * (200 + 16))
                np.testing.assert_allclose(fluxes[f"s{k}"], factor * west[k, 2], atol=5 * error + 0.02 * factor * west[k, 2])
            self.assertEqual(set(measured_files(self.night, series)), set(series.files))
            self.assertEqual(run_curve(self.night, self.context, series).problem, "")
        east = run_measure(self.night, self.context, self.one("East-Field-V"))
        self.assertIn("no target", east.problem)
        self.assertEqual(set(self.night.products_of("curve")), {f"West-Field-{b}" for b in BANDS})

        # Done again with other settings, one series changes and the others do not, byte for byte.
        held = {key: (self.files_of(key), self.rows_of(key)) for key in keys}
        settings = self.night.settings
        settings.combine.high = 3.3
        settings.measure.radius = 2.2
        self.night.set_settings(settings)
        again = self.one("West-Field-B")
        run_deep(self.night, self.context, again)
        run_stack(self.night, self.context, again)
        run_measure(self.night, self.context, again)
        run_curve(self.night, self.context, again)
        for key in keys:
            now = (self.files_of(key), self.rows_of(key))
            (self.assertNotEqual if key == again.key else self.assertEqual)(now, held[key])
        self.assertEqual(self.night.state("combine", again), "done")
        self.assertEqual(self.night.state("combine", self.one("West-Field-V")), "stale")

    def test_leaving_out_touches_the_series_it_belongs_to(self) -> None:
        run_station(self.night, self.context, "combine")
        self.assertEqual({self.night.state("combine", one) for one in self.night.series()}, {"done"})
        self.night.leave_out([self.one("East-Field-R").files[0]], "cloud")
        stale = {one.key for one in self.night.series() if self.night.state("combine", one) == "stale"}
        self.assertEqual(stale, {"East-Field-R"})
        self.assertEqual(run_station(self.night, self.context, "combine").done, 6 * PER_SERIES - 1)

    def test_the_chosen_series_is_remembered(self) -> None:
        self.night.choose_series("East-Field-B")
        run_score(self.night, self.context)
        self.assertEqual({p.series for p in self.night.products_of("score").values()}, {"East-Field-B"})
        folder = self.night.folder
        self.night.close()
        self.night = Night(folder)
        current = self.night.current_series()
        self.assertEqual(current.key if current else "", "East-Field-B")
        self.night.choose_series("gone")
        self.assertIsNotNone(self.night.current_series())

    def test_another_object_by_hand_makes_another_series(self) -> None:
        run_score(self.night, self.context, self.one("West-Field-V"))
        moved = self.one("West-Field-V").files[:2]
        self.night.correct(moved, "object", "Third")
        self.assertEqual(self.one("Third-V").files, moved)
        self.assertEqual(len(self.one("West-Field-V").members), 2)
        self.assertEqual(self.night.state("combine", self.one("West-Field-V")), "stale")
        run_score(self.night, self.context, self.one("Third-V"))
        scores = self.night.products_of("score")
        self.assertEqual({scores[path].series for path in moved}, {"Third-V"})
        self.night.correct(moved, "object", None)
        self.assertEqual(len(self.one("West-Field-V").members), 4)

    def test_one_series_without_stars_does_not_stop_the_others(self) -> None:
        empty = np.full((HEIGHT, WIDTH), 300, np.uint16)
        for i in range(2):
            self.write(
                f"raw/empty{i}.fits", empty, IMAGETYP="Light", EXPTIME=30.0, FILTER="V", OBJECT="Nothing", RA=90.0, DEC=0.0,
                EGAIN=GAIN, DATE_OBS=f"2027-02-11T23:0{i}:00",
            )  # fmt: skip
        run_station(self.night, self.context, "intake")
        result = run_station(self.night, self.context, "combine")
        self.assertEqual(set(self.night.products_of("stack")), {s.key for s in self.night.series()} - {"Nothing-V"})
        self.assertIn("Nothing · V", result.text)
        self.assertGreater(result.failed, 0)


class BeforeSeries(FolderCase):
    """A night of an earlier version is carried over when it is opened."""

    def test_rows_and_files_go_to_their_series(self) -> None:
        interleaved(self.write)
        night = Night.create(self.folder / "night", [self.folder / "raw"])
        run_station(night, JobContext(), "intake")
        folder, series = night.folder, {one.key: one for one in night.series()}
        west, east = series["West-Field-V"], series["East-Field-V"]
        night.close()
        (folder / "products" / "stars").mkdir()
        for name in ("stack-V.fits", "deep-V.fits", "series.csv", "curve.csv", "stack.wcs", "stars/a.stars.csv"):
            (folder / "products" / name).write_text(name)
        rows = [
            ("stack", "V", "stack-V.fits"), ("deep", "V", "deep-V.fits"), ("curve", "curve", "curve.csv"),
            ("plate_stack", "V", "stack.wcs"), *(("measured", path, "") for path in west.files),
            *(("score", path, "") for path in east.files),
        ]  # fmt: skip
        with sqlite3.connect(folder / "night.sqlite") as old:
            # As the file was before: no series column, stars of the whole night.
            old.execute("ALTER TABLE products DROP COLUMN series")
            old.execute("ALTER TABLE findings DROP COLUMN series")
            old.execute("DROP TABLE stars")
            old.execute("DROP TABLE sums")
            old.execute(
                "CREATE TABLE stars (name TEXT PRIMARY KEY, position INTEGER NOT NULL, role TEXT NOT NULL, ra REAL, dec REAL, x REAL, y REAL)"
            )
            old.execute("INSERT INTO stars VALUES ('T', 0, 'target', 30.0, 10.0, NULL, NULL)")
            old.execute("DELETE FROM meta WHERE key IN ('fields', 'ran')")
            old.execute(
                "INSERT INTO meta VALUES ('ran', ?)",
                (json.dumps({"intake": {"stamp": "x", "result": "done"}, "curve": {"stamp": "x", "result": "part"}}),),
            )
            old.execute("INSERT OR REPLACE INTO meta VALUES ('settings', ?)", (json.dumps({"combine": {"filter": "V", "high": 3.5}}),))
            for kind, source, output in rows:
                path = str(folder / "products" / output) if output else ""
                old.execute("INSERT INTO products VALUES (?, ?, ?, '{}')", (kind, source, path))
            old.execute("PRAGMA user_version = 2")
        old.close()
        night = Night(folder)
        self.addCleanup(night.close)
        self.assertEqual(night.settings.combine.high, 3.5)
        current = night.current_series()
        self.assertEqual(current.key if current else "", west.key)
        self.assertEqual(set(night.products_of("measured", west.key)), set(west.files))
        self.assertEqual(set(night.products_of("score", east.key)), set(east.files))
        for kind, name in (("stack", "stack.fits"), ("deep", "deep.fits"), ("curve", "curve.csv")):
            ((source, product),) = night.products_of(kind).items()
            self.assertEqual((source, product.series), (west.key, west.key))
            self.assertEqual(Path(product.output), night.series_folder(west.key) / f"{west.key}-{name}")
            self.assertTrue(Path(product.output).exists())
        self.assertEqual(series_path(night, west).read_text(), "series.csv")
        self.assertEqual(curve_path(night, west).read_text(), "curve.csv")
        self.assertEqual([s.name for s in night.stars(west)], ["T"])
        self.assertEqual(night.stars(east), [])
        self.assertEqual((night.state("curve", west), night.state("curve", east)), ("stale", "empty"))
        night.close()
        again = Night(folder)
        self.addCleanup(again.close)
        self.assertEqual(set(again.products_of("stack")), {west.key}, "carried once")
