"""Which stars are proposed, and what they are called: no window is needed for it."""

from __future__ import annotations

import unittest
from dataclasses import fields

import numpy as np

from ulvar.desktop.models.starpick import _next_name, choose_comparisons
from ulvar.photometry import ListedStar
from ulvar.stars import StarFlag, StarTable

SIZE = (400, 300)
TARGET = (200.0, 150.0)


def table(rows: list[tuple[float, float, float, int]]) -> StarTable:
    """Stars of x, y, flux and flags; the first is the target."""
    x, y, flux, flags = (np.array(column) for column in zip(*rows))
    columns = {f.name: np.ones(len(rows)) for f in fields(StarTable)}
    return StarTable(
        **{
            **columns,
            "x": x.astype(float),
            "y": y.astype(float),
            "flux": flux.astype(float),
            "flags": flags.astype(np.int64),
        }
    )


class Proposed(unittest.TestCase):
    def picked(self, *others: tuple[float, float, float, int]) -> list[int]:
        stars = table([(*TARGET, 1000.0, 0), *others])
        return [int(k) - 1 for k in choose_comparisons(stars, TARGET, SIZE)]

    def test_away_from_each_edge(self) -> None:
        for x, y, good in (
            (41, 150, True), (39, 150, False), (359, 100, True), (361, 100, False),
            (100, 41, True), (100, 39, False), (100, 259, True), (100, 261, False),
        ):  # fmt: skip
            self.assertEqual(self.picked((x, y, 1000.0, 0)), [0] if good else [], (x, y))

    def test_of_like_brightness_the_likest_first(self) -> None:
        fluxes = (340.0, 320.0, 2900.0, 3100.0, 1100.0, 700.0)
        others = [(60.0 + 45 * i, 80.0, flux, 0) for i, flux in enumerate(fluxes)]
        self.assertEqual(self.picked(*others), [4, 5, 2, 0])

    def test_clean_alone_and_not_the_target_itself(self) -> None:
        for flag in (StarFlag.SATURATED, StarFlag.BAD_PIXEL, StarFlag.EDGE):
            self.assertEqual(self.picked((100, 100, 1000.0, int(flag))), [])
        self.assertEqual(self.picked((215, 150, 900.0, 0)), [], "too near the target")
        self.assertEqual(
            self.picked((100, 100, 1000.0, 0), (110, 100, 20.0, 0)), [], "a neighbour of a fiftieth of its light"
        )
        self.assertEqual(
            self.picked((100, 100, 1000.0, 0), (110, 100, 5.0, 0)), [0], "one of a two-hundredth does no harm"
        )
        self.assertEqual(self.picked((100, 100, 1000.0, 0), (121, 100, 20.0, 0)), [0], "nor one far enough")
        self.assertEqual(len(choose_comparisons(StarTable.empty(), TARGET, SIZE)), 0)


class Names(unittest.TestCase):
    def test_each_role_has_its_own(self) -> None:
        stars: list[ListedStar] = []
        for role, name in (
            ("target", "Tarn 7"), ("comparison", "a"), ("comparison", "b"), ("check", "k1"), ("check", "k2"), ("comparison", "c"),
            ("target", "Tarn 7 6"),
        ):  # fmt: skip
            self.assertEqual(_next_name(stars, role, "Tarn 7"), name)
            stars.append(ListedStar(name, role, x=1.0, y=1.0))
        many = [ListedStar(letter, "comparison", x=1.0, y=1.0) for letter in "abcdefghijklmnopqrstuvwxyz"]
        self.assertEqual(_next_name(many, "comparison", ""), "c26")


if __name__ == "__main__":
    unittest.main()
