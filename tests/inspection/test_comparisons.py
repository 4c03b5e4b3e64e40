"""What is told of comparison stars that vary: by how much, beside what is usual, and what leaving them out does."""

import unittest

import numpy as np

from ulvar.inspection.comparisons import comparison_findings
from ulvar.photometry import build_ensemble

COUNT = 60


class Told(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(3)
        self.wave = 0.04 * np.sin(np.arange(COUNT) / 4)
        flux = np.array([6e4, 5e4, 5.5e4, 4.5e4])[:, None] * (1 + rng.normal(0, 0.002, (4, COUNT)))
        flux[2] *= 1 + self.wave
        self.ensemble = build_ensemble(("a", "b", "wave", "d"), flux, 0.002 * flux)

    def test_how_far_and_beside_what(self) -> None:
        (found,) = comparison_findings(self.ensemble)
        self.assertEqual((found.code, found.evidence["star"], found.title), ("comparison_varies", "wave", "Star wave varies"))
        told, times = float(found.text[1:3]), float(found.text.partition(", ")[2].partition(" times")[0])
        # Nine tenths of a sine of 0.04 lie within 0.0395, which is 43 mmag.
        self.assertAlmostEqual(told, 43, delta=3)
        verdict = self.ensemble.verdicts[2]
        self.assertAlmostEqual(times, verdict.ratio, delta=0.06)
        self.assertAlmostEqual(verdict.ratio, 0.04 / np.sqrt(2) / 0.002, delta=5)
        self.assertNotIn("Without it", found.text)
        np.testing.assert_allclose(np.array(found.evidence["series"]) - 1, self.wave, atol=0.02)

    def test_what_leaving_it_out_does(self) -> None:
        (found,) = comparison_findings(self.ensemble, {"wave": (0.0121, 0.0034), "a": (1.0, 2.0)})
        self.assertTrue(found.text.endswith("Without it the target scatters by 3.4 mmag from point to point, with it by 12.1."))
        for unknown in ((np.nan, 0.1), (0.1, np.nan)):
            (found,) = comparison_findings(self.ensemble, {"wave": unknown})
            self.assertNotIn("Without it", found.text)
