"""A stack says where it lies on the sky: after solving, and when it is made anew of solved exposures."""

import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from tools.cases import FolderCase, remember_stars, small_demo

from ulvar.astrometry import Wcs, separation_deg, wcs_from_header
from ulvar.engine import JobContext
from ulvar.flows import carried_solution, read_wcs_file, solve_files
from ulvar.frames import extensions_of, header_of, read_frame, read_plane, scan_file
from ulvar.night import Night
from ulvar.night.stations import run_intake, run_plate, run_score, run_stack, solutions
from ulvar.registration import Transform
from ulvar.simulation.demo_plan import ZERO_POINT
from ulvar.stacking import Framing


class SolvedStack(FolderCase):
    """Three exposures of the demo night, stacked, solved and stacked on a larger frame."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        demo = small_demo()
        lights = sorted((demo / "raw" / "lights" / "V").glob("*.fits"))[:24:10]
        self.night = Night.create(self.folder / "night", lights)
        self.addCleanup(self.night.close)
        settings = self.night.settings
        settings.plate.catalogue = str(demo / "catalogue.csv")
        self.night.set_settings(settings)
        for run in (run_intake, run_score, run_stack):
            self.assertEqual(run(self.night, JobContext()).problem, "")

    def stack(self) -> Path:
        (product,) = self.night.products_of("stack").values()
        return Path(product.output)

    def test_the_solution_stands_in_the_stack_and_nothing_else_of_it_changes(self) -> None:
        self.assertIsNone(wcs_from_header(header_of(str(self.stack()))))
        before, data = header_of(str(self.stack())), read_frame(scan_file(str(self.stack()))).data
        maps = {name: read_plane(f"{self.stack()}[{k}]") for k, name in enumerate(extensions_of(str(self.stack()))) if k}
        self.assertIn("NOISE MAP", maps)
        self.assertEqual(run_plate(self.night, JobContext()).problem, "")
        after = header_of(str(self.stack()))
        own = wcs_from_header(after)
        (plate,) = self.night.products_of("plate_stack").values()
        solved = read_wcs_file(Path(plate.output))
        assert own is not None and solved is not None
        for place in ((0.0, 0.0), (400.0, 10.0), (33.0, 300.0)):
            np.testing.assert_allclose(own.sky(*place), solved.sky(*place), atol=1e-9)
        np.testing.assert_array_equal(read_frame(scan_file(str(self.stack()))).data, data)
        for name in ("NCOMBINE", "EXPTOTAL", "EGAIN", "RECIPEID", "DATE-AVG", "SKYNOISE", "OBJECT", "FILTER"):
            self.assertEqual(after.get(name), before.get(name), name)
        for k, name in enumerate(extensions_of(str(self.stack()))):
            if k:
                np.testing.assert_array_equal(read_plane(f"{self.stack()}[{k}]"), maps.pop(name), name)
        self.assertEqual(maps, {})
        # How deep it is, by the catalogue's stars: the same in header, result and product.
        (result,) = self.night.products_of("result").values()
        self.assertEqual((result.values["band"], plate.values["band"]), ("V", "V"))
        self.assertAlmostEqual(after["MAGLIM"], result.values["limit_mag"], places=3)
        self.assertAlmostEqual(after["MAGZERO"], plate.values["zero_mag"], places=4)
        # 240 s of a star of 1 electron a second, haze and airmass as they were: the demo's own zero point within a few per cent.
        light = 10 ** (-0.4 * (15.0 - ZERO_POINT["V"])) * 240 / after["EGAIN"] * after["NCOMBINE"]
        self.assertAlmostEqual(15.0 + 2.5 * np.log10(light), after["MAGZERO"], delta=0.25)
        # Made again, the same pixels keep what is known of them.
        self.assertEqual(run_stack(self.night, JobContext()).problem, "")
        (again,) = self.night.products_of("result").values()
        self.assertEqual(again.values.get("limit_mag"), result.values["limit_mag"])
        # The file of the solution alone holds cards of the standard and nothing about a picture.
        names = {Path(plate.output).read_text()[i : i + 8].strip() for i in range(0, 2880, 80)}
        self.assertLessEqual(names - {"", "HISTORY", "END"}, {"SIMPLE", "BITPIX", "NAXIS", *(name for name, _, _ in solved.cards())})

    def test_made_anew_of_solved_exposures_it_knows_its_place_at_once(self) -> None:
        run_plate(self.night, JobContext())
        reference = next(iter(self.night.products_of("stack").values())).values["reference"]
        ref = solutions(self.night)[reference]
        settings = self.night.settings
        settings.combine.framing = Framing.UNION
        self.night.set_settings(settings)
        facts = self.night.facts(reference)
        assert facts is not None
        self.assertEqual(run_stack(self.night, JobContext()).problem, "")
        header = header_of(str(self.stack()))
        own = wcs_from_header(header)
        assert own is not None
        # Of the frame that the union begins left of and below the reference the frames' matrices tell.
        matrix = self.night.products_of("stack_frame")[reference].values["matrix"]
        shift = matrix[0][2], matrix[1][2]
        self.assertGreater(max(shift), 1.0, "the union is larger: else this would show nothing")
        for x, y in ((10.0, 20.0), (300.0, 100.0)):
            np.testing.assert_allclose(own.sky(x + shift[0], y + shift[1]), ref.sky(x, y), atol=1e-7)

    def test_what_has_no_solution_of_its_own_takes_its_neighbour_s(self) -> None:
        self.assertEqual(run_plate(self.night, JobContext()).problem, "")
        alone = solutions(self.night)
        victim = sorted(alone)[0]
        tried = []

        def failing(todo, *rest, **more):  # type: ignore[no-untyped-def]
            tried.append([facts.path for facts in todo])
            if len(todo) == 1 and todo[0].path not in alone:
                return solve_files(todo, *rest, **more)
            done = solve_files(todo, *rest, **{**more, "arrived": None})
            return [replace(o, ok=False, reason="no match") if o.file == victim else o for o in done]

        settings = self.night.settings
        settings.plate.radius_deg = 1.1
        self.night.set_settings(settings)
        with mock.patch("ulvar.night.stations.plate.solve_files", failing):
            told = run_plate(self.night, JobContext())
        self.assertEqual(told.text, "3 of 3 exposures solved, 1 of them by their alignment")
        carried = self.night.products_of("plate")[victim]
        self.assertIsNone(carried.values["matched"])
        self.assertIn(carried.values["carried_from"], [Path(p).name for p in alone])
        # Alignment and both solutions are good to a tenth of a pixel.
        x, y = np.array([0.0, 200.0, 390.0]), np.array([10.0, 150.0, 290.0])
        off = separation_deg(*solutions(self.night)[victim].sky(x, y), *alone[victim].sky(x, y)) * 3600
        self.assertLess(float(off.max()), 0.3 * alone[victim].scale_arcsec_px)
        # It is tried again the next time, the others are not.
        with mock.patch("ulvar.night.stations.plate.solve_files", failing):
            run_plate(self.night, JobContext())
        self.assertEqual([len(t) for t in tried if victim in t], [3, 1])


class Carried(unittest.TestCase):
    def test_along_ways_straight_and_bent(self) -> None:
        known = Wcs(
            80.0, -40.0, 300.0, 200.0, np.array([[-3e-4, 5e-5], [5e-5, 3e-4]]), {(3, 0): 2e-8, (1, 2): 2e-8}, {(0, 2): 1e-6},
        )  # fmt: skip
        straight = Transform(np.array([[0.0, -1.0, 590.0], [1.0, 0.0, 12.0]]))
        for way in (straight, Transform(np.array([[1.0, 0.0, 4.0], [0.0, 1.0, -7.5]]))):
            wcs = carried_solution(known, way, (400, 600))
            for x, y in ((0.0, 0.0), (599.0, 20.0), (301.0, 399.0)):
                off = separation_deg(*wcs.sky(x, y), *known.sky(*(float(v[0]) for v in way(np.array([x]), np.array([y]))))) * 3600
                self.assertLess(float(off), 0.005)
        plain = Wcs(known.ra0, known.dec0, known.x0, known.y0, known.cd)
        self.assertEqual(carried_solution(plain, straight, (400, 600)).sip_a, {})
