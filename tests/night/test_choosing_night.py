"""Qualities, rules and the deep view of a night on disk."""

import math
import shutil

import numpy as np
from tools.cases import FolderCase, remember_stars
from tools.nights import scored_night

from ulvar.engine import JobContext
from ulvar.frames import read_plane
from ulvar.night import Night
from ulvar.night.settings import RuleSettings, ShapeSettings
from ulvar.night.stations import night_rules, quality_rows, run_deep, run_score, run_stack, stack_candidates
from ulvar.stacking import Rule
from ulvar.stars import QUALITIES


class Choosing(FolderCase):
    """One scored night of raw lights."""

    def setUp(self) -> None:
        super().setUp()
        remember_stars(self)
        shutil.copytree(scored_night(), self.folder / "night")
        self.night = Night.for_path(self.folder / "night")
        self.addCleanup(self.night.close)
        self.context = JobContext()

    def test_a_night_from_scores_to_stack(self) -> None:
        rows = quality_rows(self.night)
        self.assertEqual(len(rows), len(self.night.lights()))
        for raw, row in rows.items():
            facts = self.night.facts(raw)
            assert facts is not None
            self.assertLessEqual(set(QUALITIES), set(row))
            self.assertAlmostEqual(row["fwhm_arcsec"], row["fwhm_px"] * facts.scale_arcsec_px, places=6)
            # Raw frames hold a bias level as well: noise over photons and read-out is under 1, but no wild number.
            self.assertTrue(0.3 < row["noise_ratio"] < 2)
            self.assertGreaterEqual(row["gradient_adu"], 0)
        scores = np.array([row["score"] for row in rows.values()])
        self.assertEqual(scores.max(), 1.0)
        raw_scores = np.array([r["transparency"] / r["fwhm_px"] / r["noise_adu"] for r in rows.values()])
        np.testing.assert_allclose(scores, raw_scores / raw_scores.max(), rtol=1e-9)

        # Rules are the settings' and say why.
        settings = self.night.settings
        limit = float(np.median([r["fwhm_px"] for r in rows.values()]))
        settings.combine.rules = [RuleSettings(quality="fwhm_px", side="over", limit=limit)]
        tried, why = stack_candidates(self.night, self.night.current_series(), settings)
        self.assertEqual(set(why), {raw for raw, r in rows.items() if r["fwhm_px"] > limit})
        self.assertTrue(all("FWHM" in words for words in why.values()))
        self.assertNotEqual(set(stack_candidates(self.night, self.night.current_series())[0]), set(tried), "trying does not store")
        self.night.set_settings(settings)
        self.assertEqual(night_rules(self.night.settings), [Rule("fwhm_px", "over", limit)])
        self.assertEqual(set(stack_candidates(self.night, self.night.current_series())[0]), set(tried))

        # The deep view takes what the rules keep, and lies on the reference's pixels.
        deep = run_deep(self.night, self.context)
        self.assertFalse(deep.problem)
        product = self.night.products_of("deep")[self.night.current_series().key]
        self.assertEqual(product.values["count"], len(tried))
        reference = self.night.facts(product.values["reference"])
        assert reference is not None
        image = read_plane(product.output)
        self.assertEqual(image.shape, (reference.height, reference.width))
        stacked = run_stack(self.night, self.context)
        self.assertEqual(stacked.done, len(tried))

        # Another blend changes the scores, and only them.
        settings.combine.blend = {"stars": 1.0}
        other = quality_rows(self.night, settings=settings)
        most = max(rows, key=lambda raw: rows[raw]["stars"] or 0)
        self.assertEqual(other[most]["score"], 1.0)
        self.assertTrue(all(other[raw]["fwhm_px"] == rows[raw]["fwhm_px"] for raw in rows))

    def test_deep_view_needs_two(self) -> None:
        paths = [f.path for f in self.night.lights()]
        self.night.leave_out(paths[1:], "x")
        told = run_deep(self.night, self.context)
        self.assertIn("two", told.problem)
        self.assertEqual(self.night.products_of("deep"), {})

    def test_regions_take_part_in_scoring(self) -> None:
        before = {raw: p.values["stars"] for raw, p in self.night.products_of("score").items()}
        settings = self.night.settings
        width, height = self.night.lights()[0].width, self.night.lights()[0].height
        settings.combine.regions = [ShapeSettings(kind="rectangle", points=[(0.0, 0.0), (width / 2, float(height))])]
        self.night.set_settings(settings)
        self.assertEqual(self.night.state("combine"), "stale")
        run_score(self.night, self.context)
        after = {raw: p.values["stars"] for raw, p in self.night.products_of("score").items()}
        share = np.array([after[raw] / before[raw] for raw in before if raw in after and before[raw]])
        self.assertTrue(0.25 < np.median(share) < 0.75, "half of the field is left out")
        self.assertFalse(math.isnan(np.median(share)))
