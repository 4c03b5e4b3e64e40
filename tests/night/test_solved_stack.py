"""A stack says where it lies on the sky: after solving, and when it is made anew of solved exposures."""

from __future__ import annotations

import unittest
from pathlib import Path

import numpy as np

from tests.support import FolderCase, small_demo
from ulvar.astrometry import wcs_from_header
from ulvar.engine import JobContext
from ulvar.flows import read_wcs_file
from ulvar.frames import extensions_of, header_of, read_frame, read_plane, scan_file
from ulvar.night import Night
from ulvar.night.stations import run_intake, run_plate, run_score, run_stack, solutions
from ulvar.simulation.demo_plan import ZERO_POINT
from ulvar.stacking import Framing


class SolvedStack(FolderCase):
    """Three exposures of the demo night, stacked, solved and stacked on a larger frame."""

    def setUp(self) -> None:
        super().setUp()
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
        maps = {
            name: read_plane(f"{self.stack()}[{k}]") for k, name in enumerate(extensions_of(str(self.stack()))) if k
        }
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
        self.assertLessEqual(
            names - {"", "HISTORY", "END"},
            {"SIMPLE", "BITPIX", "NAXIS", *(name for name, _, _ in solved.cards())},
        )

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


if __name__ == "__main__":
    unittest.main()
