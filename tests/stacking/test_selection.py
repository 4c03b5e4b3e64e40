"""Rules, what each takes, and what a stack of the rest will be like."""

import math
import unittest

import numpy as np

from ulvar.stacking import Rule, count_rules, stack_outlook
from ulvar.stars import QUALITIES

ROWS = [
    {"fwhm_px": 2.5, "transparency": 1.0, "noise_adu": 10.0, "ellipticity": 0.05},
    {"fwhm_px": 4.5, "transparency": 1.0, "noise_adu": 10.0, "ellipticity": 0.05},
    {"fwhm_px": 4.6, "transparency": 0.5, "noise_adu": 10.0, "ellipticity": 0.05},
    {"fwhm_px": None, "transparency": 0.9, "noise_adu": 10.0, "ellipticity": float("nan")},
]


class Rules(unittest.TestCase):
    """Each takes what is beyond its limit, and says so."""

    def test_sides_and_unknown_values(self) -> None:
        wide, dim = Rule("fwhm_px", "over", 4.2), Rule("transparency", "under", 0.8)
        self.assertEqual([wide.takes(r) for r in ROWS], [False, True, True, False])
        self.assertEqual([dim.takes(r) for r in ROWS], [False, False, True, False])
        self.assertFalse(Rule("ellipticity", "over", 0.0).takes(ROWS[3]), "a NaN is no number to rule by")
        self.assertFalse(Rule("fwhm_px", "over", 2.5).takes(ROWS[0]), "the limit itself is still in")

    def test_words_have_units_and_shares_are_per_cent(self) -> None:
        self.assertEqual(Rule("fwhm_px", "over", 4.2).why(ROWS[2]), "FWHM 4.60\u00a0px over 4.20")
        self.assertEqual(Rule("transparency", "under", 0.8).why(ROWS[2]), "Transparency 50\u00a0% under 80")

    def test_counts_tell_who_takes_alone(self) -> None:
        counts = count_rules([Rule("fwhm_px", "over", 4.2), Rule("transparency", "under", 0.8)], ROWS)
        self.assertEqual([(c.takes, c.alone) for c in counts], [(2, 1), (1, 0)])
        self.assertEqual(count_rules([], ROWS), [])
        self.assertEqual(count_rules([Rule("stars", "under", 3)], [])[0].takes, 0)

    def test_wrong_rules(self) -> None:
        for wrong in (("beauty", "over"), ("fwhm_px", "beside")):
            with self.assertRaises(ValueError):
                Rule(*wrong, 1.0)


class Outlook(unittest.TestCase):
    """Against a simulated weighted mean."""

    def test_ratio_is_that_of_the_weighted_mean(self) -> None:
        rng = np.random.default_rng(1)
        rows = [
            {"transparency": t, "fwhm_px": w, "noise_adu": n}
            for t, w, n in zip(rng.uniform(0.4, 1, 12), rng.uniform(2.5, 5, 12), rng.uniform(8, 20, 12))
        ]
        # A star of flux 1 measured in each exposure with noise proportional to FWHM x noise / T.
        sigma = np.array([r["fwhm_px"] * r["noise_adu"] / r["transparency"] for r in rows])
        draws = 1 + sigma * rng.standard_normal((200_000, 12))
        weights = 1 / sigma**2
        mean = (draws * weights).sum(axis=1) / weights.sum()
        ratio = (1 / mean.std()) / (1 / sigma.min())
        told = stack_outlook(rows)
        # The scatter of 200,000 draws is known to 0.2 %.
        self.assertLess(abs(told.snr / ratio - 1), 0.01)
        self.assertEqual(told.count, 12)
        # Of the profile as the weights of the mean make it: the mean of the squared widths.
        width = np.array([r["fwhm_px"] for r in rows])
        self.assertAlmostEqual(told.fwhm_px, float(np.sqrt(np.average(width**2, weights=weights))), places=9)

    def test_equal_exposures(self) -> None:
        told = stack_outlook([ROWS[0]] * 9)
        self.assertAlmostEqual(told.snr, 3.0)
        self.assertAlmostEqual(told.fwhm_px, 2.5)

    def test_nothing_known(self) -> None:
        self.assertTrue(math.isnan(stack_outlook([]).snr))
        self.assertTrue(math.isnan(stack_outlook([ROWS[3]]).fwhm_px))


class Words(unittest.TestCase):
    def test_reasons_with_their_units(self) -> None:
        self.assertEqual(Rule("fwhm_px", "over", 4.2).why({"fwhm_px": 4.613}), "FWHM 4.61\u00a0px over 4.20")
        for name, quality in QUALITIES.items():
            between = "\u00a0" if quality.unit and quality.unit not in "°″" else ""
            value, limit = (f"{number * quality.factor:.{quality.decimals}f}" for number in (2.0, 1.0))
            told = Rule(name, "under", 1.0).why({name: 2.0})
            self.assertEqual(told, f"{quality.title} {value}{between}{quality.unit} under {limit}")
