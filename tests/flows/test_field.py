"""Which stars of a field are measured, and in which exposures apertures are tried."""

import unittest
from dataclasses import dataclass

import numpy as np

from tests.photometry.test_sky import detections
from ulvar.astrometry import StarCatalogue, Wcs
from ulvar.flows import field_stars, told_by_catalogue, typical_exposures, typical_of
from ulvar.stars import StarFlag


class Chosen(unittest.TestCase):
    def test_stars_inside_and_below_saturation_the_brightest_first(self) -> None:
        table = detections(
            [50, 60, 11, 13, 388, 200, 100], [50, 60, 150, 150, 150, 287, 100], [5, 9, 50, 7, 60, 70, 90],
            flags=np.array([0, 0, 0, 0, 0, 0, int(StarFlag.SATURATED)]),
        )  # fmt: skip
        # Within four FWHM of an edge nothing is measured.
        listed = field_stars(table, 400, 300, 3.0)
        self.assertEqual([(s.name, s.x, s.y) for s in listed], [("s001", 60, 60), ("s002", 13, 150), ("s003", 50, 50)])
        self.assertEqual([s.x for s in field_stars(table, 400, 300, 3.0, most=2)], [60, 13])

    def test_exposures_of_best_typical_and_worst_seeing(self) -> None:
        widths = {f"{k}": 2.0 + k / 10 for k in range(21)} | {"unknown": float("nan")}
        self.assertEqual(typical_exposures(widths), ["2", "10", "18"])
        self.assertEqual(typical_exposures({"a": 3.0}), ["a"])
        self.assertEqual(typical_exposures({}), [])

    def test_exposures_spread_over_a_series(self) -> None:
        @dataclass
        class One:
            path: str

        members = [One(f"{k}") for k in range(100)]
        chosen = [m.path for m in typical_of(members, 5)]  # type: ignore[type-var]
        self.assertEqual(chosen, ["0", "25", "50", "74", "99"])
        self.assertEqual(len(typical_of(members[:4], 5)), 4)  # type: ignore[type-var]

    def test_colours_and_variables_of_the_catalogue(self) -> None:
        wcs = Wcs(100.0, 20.0, 200.0, 150.0, np.array([[-1e-3, 0.0], [0.0, 1e-3]]))
        ra, dec = wcs.sky(np.array([50.0, 120.0, 300.0]), np.array([60.0, 200.0, 90.0]))
        none = np.zeros(3)
        catalogue = StarCatalogue(
            ra, dec, none + 2016, none, none, np.array([10.0, 11, 12]), {"B": np.array([10.5, 12, 12.25, ])[:3], "V": np.array([10.0, 11, 12])},
            variable=np.array([0.0, 1.0, np.nan]),
        )  # fmt: skip
        found = detections([301.0, 52.0, 120.0, 20.0], [91.0, 60.0, 203.5, 20.0], [1, 1, 1, 1])
        # Fewer than five of both bands make no index.
        colour, variable, name = told_by_catalogue(found, wcs, catalogue)
        self.assertIsNone(colour)
        self.assertEqual(name, "")
        assert variable is not None
        self.assertEqual(variable.tolist(), [False, False, False, False])
        near = told_by_catalogue(detections([120.5], [200.0], [1]), wcs, catalogue)[1]
        assert near is not None
        self.assertEqual(near.tolist(), [True])
