"""What commands say of a body and of a pair, number by number."""

import unittest
from dataclasses import fields
from datetime import UTC, datetime, timedelta
from math import nan
from unittest import mock

from ulvar.cli.bodies import _summary_lines
from ulvar.cli.pairs import summary_lines
from ulvar.flows import BodySummary, PairSummary, straight_or_bent
from ulvar.flows.figure import _numbers

BEGIN = datetime(2027, 2, 11, 21, tzinfo=UTC)


class Lines(unittest.TestCase):
    def test_all_and_the_least_of_a_body_and_of_a_pair(self) -> None:
        body = BodySummary(9, 2, 61.25, 118.3, True, (0.11, 0.12), (0.13, 0.14), (0.015, -0.026), (0.007, 0.008))
        self.assertEqual(_summary_lines(body)[-1], "2 left away: they stand off the way")
        self.assertEqual(_summary_lines(BodySummary(1, 0, nan, nan, False, (nan, nan), (nan, nan), (nan, nan), (nan, nan))), [])
        names = [f.name for f in fields(PairSummary)]
        told = dict(zip(names, [0.5 + k for k in range(len(names))])) | {"count": 7, "outliers": 3, "unsolved": 4}
        for solved, count, more in ((True, 7, {}), (False, 1, {"outliers": 0, "unsolved": 0})):
            lines = summary_lines(PairSummary(**{**told, "solved": solved, "count": count, **more}))
            self.assertEqual(len(lines), 5 if solved else 2)
            self.assertEqual(("arcsec" in lines[0], "px" in lines[0]), (solved, not solved))

    def test_three_marks_over_most_of_a_series_tell_a_bent_way(self) -> None:
        moments = [BEGIN + timedelta(minutes=m) for m in (0, 10, 30)]
        for end, bent in ((30, True), (49, True), (51, False), (300, False)):
            way = straight_or_bent(moments, [(0.0, 0.0), (1.0, 2.0), (9.0, 6.0)], [BEGIN, BEGIN + timedelta(minutes=end)])
            x, y = way(BEGIN + timedelta(minutes=20))
            self.assertAlmostEqual(y, 4.0)
            # A parabola goes through (20, 4); the straight line by least squares through 38 / 7.
            self.assertAlmostEqual(x, 4.0 if bent else 38 / 7, places=6)

    def test_what_a_figure_says_of_a_model(self) -> None:
        names = ("mid", "period_d", "depth_mag", "duration_d", "ratio", "amplitude_mag", "minimum")
        fit = mock.Mock(values=dict.fromkeys(names, 2.5), errors=dict(zip(names, (0.1, 0.01, 0.0, 0.5, nan, 3e-4, 12.0))))
        self.assertEqual(
            _numbers(mock.Mock(fit=fit)),
            ["mid 2.50 ± 0.10 BJD", "period 2.500 ± 0.010 d", "duration 60 ± 12 h", "range 2.50000 ± 0.00030 mag", "faintest 2 ± 12 BJD"],
        )
