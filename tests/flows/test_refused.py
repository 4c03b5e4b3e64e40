"""One exposure of several is damaged, gone, empty or of another size: it is named with the reason, the rest goes on."""

import dataclasses
from pathlib import Path

import numpy as np
from tools.cases import FolderCase, remember_stars

from ulvar.astrometry import StarCatalogue
from ulvar.combine import Method, Rejection
from ulvar.engine import Failed, JobContext
from ulvar.flows import (
    Body,
    MasterOptions,
    MeasureOptions,
    Outcome,
    PictureOptions,
    PlateOptions,
    Pointed,
    StackedExposure,
    StackOptions,
    calibrate_lights,
    find_all,
    find_looks,
    load_masters,
    look_at_pixels,
    make_colour,
    make_masters,
    make_reference,
    measure_field,
    measure_growths,
    measure_pairs,
    measure_positions,
    measure_series,
    measure_settings,
    open_catalogue,
    pixel_history,
    plan_by_filter,
    solve_files,
    stack_exposures,
    write_planes,
    write_view,
)  # fmt: skip
from ulvar.frames import ExposureFacts, Role, read_plane, scan_file
from ulvar.photometry import ListedStar
from ulvar.registration import Transform
from ulvar.simulation import Psf, star_field
from ulvar.stacking import Framing, GridOptions, Normalise, Weighting

WIDTH, HEIGHT = 300, 220


def pointed(other: str) -> Pointed:
    return Pointed(other, (((20.0, 30.0), (23.4, 28.2)), ((200.0, 150.0), (203.4, 148.2))))


class Damaged(FolderCase):
    """Three good exposures, and six that are not."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        rng = np.random.default_rng(17)
        self.x, self.y = rng.uniform(20, WIDTH - 20, 40), rng.uniform(20, HEIGHT - 20, 40)
        flux = 10 ** rng.uniform(3.8, 5, 40)
        cards = {"IMAGETYP": "light", "FILTER": "V", "EXPTIME": 10.0, "EGAIN": 1.5, "RDNOISE": 5.0}
        sky = np.full((HEIGHT, WIDTH), np.nan, np.float32)
        for k, name in enumerate(("a", "b", "c", "cut", "gone", "dark", "small", "blank", "undated")):
            data = star_field(
                rng, width=WIDTH, height=HEIGHT, x=self.x + 1.7 * k, y=self.y - 0.9 * k, flux_e=flux, psf=Psf.with_fwhm(3.0), sky_e=200, read_noise_e=5,
            ).astype(np.float32)  # fmt: skip
            data = rng.normal(200, 5, data.shape).astype(np.float32) if name == "dark" else data[:3, :4] if name == "small" else data
            when = {} if name == "undated" else {"DATE_OBS": f"2027-02-11T21:{k:02d}:00"}
            self.write(f"raw/{name}.fits", sky if name == "blank" else data, **cards, **when)
        self.facts: dict[str, ExposureFacts] = {path.stem: scan_file(str(path)) for path in sorted((self.folder / "raw").iterdir())}
        self.every = list(self.facts.values())
        self.good = [self.facts[name] for name in "abc"]
        self.context = JobContext()

    def damage(self) -> None:
        """What was found whole is not any more when it is worked on."""
        cut = self.folder / "raw" / "cut.fits"
        cut.write_bytes(cut.read_bytes()[:9000])
        (self.folder / "raw" / "gone.fits").unlink()

    def named(self, told: list[Outcome] | list[Failed]) -> dict[str, str]:
        """Return the reasons by the files' names, of what failed."""
        return {Path(one.file).stem: one.reason for one in told if not one}

    def bad(self, outcomes: list[Outcome]) -> dict[str, str]:
        return {Path(o.file).stem: o.reason for o in outcomes if not o.ok}

    def listed(self) -> list[ListedStar]:
        return [ListedStar(f"s{k}", "comparison" if k else "target", x=float(self.x[k]), y=float(self.y[k])) for k in range(4)]

    def test_stars_and_masters(self) -> None:
        self.damage()
        scored, failed = find_all(self.every, self.context)
        self.assertEqual([Path(one.facts.path).stem for one in scored], ["a", "b", "c", "dark", "undated"])
        said = self.named(failed)
        self.assertEqual(set(said), {"blank", "cut", "gone", "small"})
        self.assertIn("no such file", said["gone"])
        self.assertIn("cut short", said["cut"])
        self.assertEqual(set(look_at_pixels(self.every, self.context)) & {self.facts[n].path for n in ("cut", "gone")}, set())
        flats = [dataclasses.replace(f, role=Role.FLAT, saturation_adu=65535.0, camera="K") for f in self.every]
        outcomes, findings = make_masters(flats, self.folder / "m", self.context, options=MasterOptions())
        self.assertFalse([o for o in outcomes if o.ok])
        looks = look_at_pixels(flats, self.context)
        measure_settings(flats, looks, self.context)
        plan_by_filter(flats, looks, 0.5)
        bias = [dataclasses.replace(f, role=Role.BIAS) for f in self.every if f.path != self.facts["small"].path]
        outcomes, findings = make_masters(bias, self.folder / "n", self.context, options=MasterOptions())
        self.assertEqual([o.ok for o in outcomes], [True])
        self.assertTrue(findings)
        outcomes, _ = calibrate_lights(self.every, [], self.folder / "o", self.context)
        self.assertEqual(len(self.bad(outcomes)), len(self.every))
        found, _ = load_masters(self.folder / "n")
        Path(found[0][1]).write_bytes(Path(found[0][1]).read_bytes()[:9000])
        outcomes, _ = calibrate_lights(self.every, found, self.folder / "p", self.context, partial=True)
        said = self.bad(outcomes)
        self.assertTrue(said["a"].startswith(found[0][1]) and "cut short" in said["a"], said["a"])
        self.assertFalse(said["gone"].startswith("/"), said["gone"])

    def test_measuring(self) -> None:
        self.damage()
        reference = make_reference(self.good[0])
        assert not isinstance(reference, Failed)
        rows, outcomes = measure_series(self.every, self.listed(), self.context, reference=reference)
        said = self.bad(outcomes)
        self.assertEqual({Path(row.file).stem for row in rows}, {"a", "b", "c", "undated"})
        self.assertEqual(set(said), {"blank", "cut", "dark", "gone", "small"})
        for measure in (measure_field, measure_growths):
            given = (reference,) if measure is measure_field else (self.listed(),)
            more = {} if measure is measure_field else {"reference": reference}
            found = measure(self.every, *((self.context, *given) if measure is measure_field else (*given, self.context)), **more)
            self.assertLessEqual({"cut", "gone"}, set(self.bad(found[1])))
        _, outcomes = find_looks(self.every, reference, self.context)
        self.assertLessEqual({"cut", "gone", "dark"}, set(self.bad(outcomes)))
        pair = self.listed()[0], self.listed()[1]
        rows, outcomes = measure_pairs(self.every, pair, self.context, reference=reference)
        self.assertEqual(set(self.bad(outcomes)), {"blank", "cut", "dark", "gone", "small"})
        _, outcomes = measure_positions(self.every, ListedStar("W", "target", ra=1.0, dec=2.0), self.context, told=True, radius_arcsec=5.0)
        self.assertEqual(len(self.bad(outcomes)), len(self.every))
        for star in (ListedStar("u", "target", ra=1.0, dec=2.0), ListedStar("u", "target", x=-90.0, y=3.0)):
            measure_series(self.good, [star], self.context, reference=reference)
        for centre in ("gauss", "nonsense"):
            try:
                MeasureOptions(centre=centre)
            except ValueError as error:
                self.assertIn("is no way to centre", str(error))
        for name in ("gone", "cut", "dark", "blank"):
            self.assertEqual(isinstance(make_reference(self.facts[name]), Failed), name in ("gone", "cut"))

    def test_stacking(self) -> None:
        """What is cut short after its stars were found is left away, too; so is what a body's place is not known for."""
        scored, _ = find_all(self.every, self.context)
        self.damage()
        out, marks = self.folder / "s.fits", [(self.facts[name].path, 30.0, 40.0) for name in ("a", "gone", "undated", "c", "cut", "a")]
        for k, options in enumerate((
            StackOptions(), StackOptions(align="none"), StackOptions(align="sky"), StackOptions(align="mosaic"), StackOptions(proper=True), StackOptions(drop=0.7),
            StackOptions(align="mosaic", grid=GridOptions(Framing.COMMON)), StackOptions(body=Body(rate=(60.0, 10.0))),
            *(StackOptions(body=Body(marks=(one, other))) for one, other in zip(marks, marks[1:])), StackOptions(common={marks[0][0]: pointed(marks[3][0])}),
            StackOptions(rejection=Rejection(Method.MEAN), drop=0.5, normalise=Normalise.NONE), StackOptions(reference=marks[3][0], weighting=Weighting.NOISE),
        )):  # fmt: skip
            # Stars that were found before take another way, which is the same for every option.
            for found in (None, scored)[k > 1 :]:
                result = stack_exposures(
                    self.every, out.with_name(f"{k}{'' if found else 'x'}.fits"), self.context, options=options, scored=found
                )
                self.assertEqual(Path(result.output).exists(), result.ok)
                self.assertLessEqual({"cut", "gone"}, set(self.bad(list(result.frames))), f"{options.align}")
        with self.assertRaisesRegex(ValueError, "takes no weights"):
            stack_exposures(self.good, out, self.context, options=StackOptions(rejection=Rejection(Method.MEDIAN)))
        again = stack_exposures(self.good, out.with_name("0.fits"), self.context)
        self.assertIn("it is kept", again.reason)
        for names in (("cut", "gone"), ("dark",), ("a", "dark")):
            result = stack_exposures([self.facts[n] for n in names], out.with_name("-".join(names)), self.context)
            self.assertEqual(bool(result.reason), not result.ok)
        way = Transform.identity()
        of = [StackedExposure(f, way, 1.0) for f in self.every]
        history = pixel_history(of, 50, 60, (HEIGHT, WIDTH), Rejection(), self.context)
        self.assertEqual({Path(one.file).stem for one in history.failed}, {"cut", "gone"})
        self.assertAlmostEqual(history.values[0].value_adu, float(read_plane(self.good[0].path)[60, 50]), places=2)
        self.assertFalse(pixel_history(of[3:5], 50, 60, (HEIGHT, WIDTH), Rejection(), self.context).values == of)
        for x, y, those in ((-1, 5, of), (5, HEIGHT, of), (5, 5, [])):
            with self.assertRaises(ValueError):
                pixel_history(those, x, y, (HEIGHT, WIDTH), Rejection(), self.context)

    def test_plates_pictures_and_colours(self) -> None:
        self.damage()
        (self.folder / "c.csv").write_text(
            "ra,dec,mag\n" + "".join(f"{10 + k / 100},{20 + k * k % 7 / 50},{9 + k / 9}\n" for k in range(30))
        )
        options = PlateOptions(seconds=1.0)
        catalogue, whole = open_catalogue(str(self.folder / "c.csv"), self.every, options, self.context)
        assert isinstance(catalogue, StarCatalogue)
        outcomes = solve_files(self.every, catalogue, self.context, options=options, wcs_folder=self.folder / "w", whole=whole)
        self.assertFalse([o for o in outcomes if o.ok])
        for name in self.facts:
            written = write_view(self.facts[name].path, self.folder / f"{name}.png", options=PictureOptions())
            self.assertEqual(written.ok, name not in ("blank", "cut", "gone"), name)
        self.assertIn("it is kept", write_view(self.good[0].path, self.folder / "a.png", options=PictureOptions()).reason)
        (self.folder / "file").write_text("")
        self.assertIn(
            "a file is in the way", write_view(self.good[0].path, self.folder / "file" / "a.png", options=PictureOptions()).reason
        )
        coloured = [dataclasses.replace(f, cfa="RGGB") for f in self.every]
        said = self.bad(write_planes(coloured, self.folder / "p", self.context))
        self.assertEqual(set(said), {"blank", "cut", "gone"})
        for third in ("cut", "gone", "dark", "small", "c"):
            stacks = dict(zip(("red", "green", "blue"), (self.facts["a"], self.facts["b"], self.facts[third])))
            result = make_colour(stacks, self.folder / f"{third}-colour.fits", self.context)
            self.assertEqual(result.ok, third == "c", result.reason)
