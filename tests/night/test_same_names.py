"""Two folders whose files have the same names: no exposure may stand for its namesake, anywhere on the path."""

from pathlib import Path

import numpy as np
from tools.cases import FolderCase, remember_stars

from ulvar.engine import JobContext
from ulvar.flows import CurveOptions, find_all, make_curve, make_reference, measure_series, read_stars, write_stars
from ulvar.frames import scan_file
from ulvar.night import Night
from ulvar.night.stations import measured_files, run_curve, run_intake, run_measure, run_score, run_stack, series_path
from ulvar.photometry import ListedStar, SeriesTable, read_series, write_series
from ulvar.simulation import Psf, star_field

PER_NIGHT = 3
CLEAR = {"2027-02-10": 1.0, "2027-02-11": 0.55}


class TwoNightsOfOneName(FolderCase):
    """A clear and a hazy night, L0.fits to L2.fits each; every star is constant."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(3)
        grid = np.array([(x, y) for x in range(40, 300, 45) for y in range(40, 220, 45)], dtype=float)
        self.x, self.y = (grid + rng.uniform(-6, 6, grid.shape)).T
        self.flux = 10 ** rng.uniform(4.4, 5.0, len(self.x))
        self.shift = {}
        for number, (day, clear) in enumerate(CLEAR.items()):
            for i in range(PER_NIGHT):
                dx = self.shift[day, i] = 1.5 * i + 4.0 * number
                image = star_field(
                    rng, width=340, height=260, x=self.x + dx, y=self.y - dx, flux_e=clear * self.flux,
                    psf=Psf.with_fwhm(3.2), sky_e=300.0,
                )  # fmt: skip
                self.write(
                    f"raw/{day}/L{i}.fits", np.clip(image, 0, 65535).astype(np.uint16), IMAGETYP="Light", EXPTIME=30.0,
                    FILTER="V", EGAIN=1.0, DATE_OBS=f"{day}T20:0{i}:00",
                )  # fmt: skip
        self.paths = sorted(str(p) for p in (self.folder / "raw").rglob("*.fits"))
        self.stars = [
            ListedStar(name, role, x=float(self.x[k]), y=float(self.y[k]))
            for k, (name, role) in enumerate((("t", "target"), ("a", "comparison"), ("b", "comparison")))
        ]

    def check_constant(self, relative: np.ndarray) -> None:
        self.assertEqual(len(relative), 2 * PER_NIGHT)
        # Of 5e4 e under a sky of 300 e: about 0.6 % an exposure; one night at the level of the other is off by 45 %.
        self.assertLess(float(np.ptp(relative) / np.median(relative)), 0.05, relative)

    def test_star_tables(self) -> None:
        exposures = [scan_file(path) for path in self.paths]
        scored, _ = find_all(exposures, JobContext())
        written = write_stars(scored, self.folder / "tables", JobContext(), replace_existing=False)
        self.assertEqual(len({o.output for o in written.values()}), len(self.paths))
        for one in scored:
            table = read_stars(Path(written[one.facts.path].output))
            np.testing.assert_allclose(table.x, one.stars.x, atol=1e-3)

    def test_series_and_curve_of_files(self) -> None:
        exposures = [scan_file(path) for path in self.paths]
        reference = make_reference(exposures[0])
        rows, outcomes = measure_series(exposures, self.stars, JobContext(), reference=reference)  # type: ignore[arg-type]
        self.assertEqual([o.reason for o in outcomes if not o.ok], [])
        self.assertEqual({row.file for row in rows}, {f"{d}/L{i}.fits" for d in CLEAR for i in range(PER_NIGHT)})
        result = make_curve(SeriesTable(rows), CurveOptions())
        self.check_constant(result.curve.relative_flux)  # type: ignore[union-attr]

    def test_tables_of_two_nights_put_together(self) -> None:
        rows = []
        for day in CLEAR:
            exposures = [scan_file(path) for path in self.paths if day in path]
            found, _ = measure_series(exposures, self.stars, JobContext(), reference=make_reference(scan_file(self.paths[0])))  # type: ignore[arg-type]
            rows += found
        self.assertEqual({row.file for row in rows}, {f"L{i}.fits" for i in range(PER_NIGHT)})
        write_series(self.folder / "both.csv", rows)
        result = make_curve(read_series(self.folder / "both.csv"), CurveOptions())
        self.check_constant(result.curve.relative_flux)  # type: ignore[union-attr]

    def test_a_night(self) -> None:
        night, context = Night.for_path(self.folder / "raw"), JobContext()
        self.addCleanup(night.close)
        run_intake(night, context)
        self.assertEqual(run_score(night, context).problem, "")
        tables = {raw: p.values["table"] for raw, p in night.products_of("score").items()}
        self.assertEqual(len(set(tables.values())), 2 * PER_NIGHT)
        self.assertEqual(run_stack(night, context).problem, "")
        dx = self.shift[tuple(self._reference(night))]
        night.set_stars([ListedStar(s.name, s.role, x=s.x + dx, y=s.y - dx) for s in self.stars])  # type: ignore[operator]
        self.assertEqual(run_measure(night, context).problem, "")
        for raw, file in measured_files(night, night.current_series()).items():
            self.assertTrue(raw.endswith(f"/{file}"), (raw, file))
        self.assertEqual(run_curve(night, context).problem, "")
        (targets,) = [read_series(series_path(night, night.current_series())).star("t")]
        for row in targets:
            day, name = row.file.split("/")
            # Placed by the exposure's own alignment and stars: a namesake's would be off by 5 px.
            self.assertAlmostEqual(row.x, self.x[0] + self.shift[day, int(name[1])], delta=0.2)
        night.leave_out([raw for raw in night.products_of("measured") if raw.endswith("2027-02-11/L1.fits")], "by hand")
        self.assertEqual(run_curve(night, context).done, 2 * PER_NIGHT - 1, "its namesake stays")

    def _reference(self, night: Night) -> tuple[str, int]:
        place = Path(next(iter(night.products_of("score").values())).values["reference"])
        return place.parent.name, int(place.stem[1])
