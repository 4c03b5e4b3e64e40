"""Which stars are proposed, and what they are called: no window is needed for it."""

import unittest

from ulvar.desktop.models.starpick import _next_name
from ulvar.photometry import ListedStar


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
