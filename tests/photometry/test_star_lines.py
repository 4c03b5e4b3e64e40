"""A star in a line of text: what people write, and what nobody meant."""

import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulvar.photometry import ListedStar, StarListError, read_star_line
from ulvar.photometry.listed import ROLES

NAMES = st.text(st.characters(categories=("L", "N"), include_characters=" _-+'"), min_size=1, max_size=12).filter(
    lambda name: name.strip().lower() not in ROLES and name.strip()
)


def hours(ra: float) -> str:
    tenths = round(ra / 15 * 36000)
    return f"{tenths // 36000:02d}:{tenths // 600 % 60:02d}:{tenths % 600 / 10:04.1f}"


class Lines(unittest.TestCase):
    @given(
        st.floats(0, 359.99), st.floats(-90, 90), st.one_of(st.just(""), NAMES), st.sampled_from(["", *ROLES]),
        st.sampled_from([", ", ",", ";", "\t"]),
    )  # fmt: skip
    def test_what_is_written_is_read(self, ra: float, dec: float, name: str, role: str, between: str) -> None:
        line = between.join(part for part in (name, f"{ra:.6f}", f"{dec:+.6f}", role) if part)
        star = read_star_line(line)
        self.assertEqual((star.name, star.role), (name.strip(), role))
        self.assertAlmostEqual(star.ra, ra % 360, delta=1e-6)
        self.assertAlmostEqual(star.dec, dec, delta=1e-6)

    @given(st.floats(0, 359.9), st.floats(-89.9, 89.9))
    def test_hours_and_degrees(self, ra: float, dec: float) -> None:
        whole = abs(dec)
        text = f"{'-' if dec < 0 else '+'}{int(whole):02d} {int(whole * 60) % 60:02d}"
        star = read_star_line(f"{hours(ra)} {text}")
        self.assertLess(abs((star.ra - ra + 180) % 360 - 180), 1 / 2400)
        self.assertLess(abs(star.dec - dec), 1 / 60 + 1e-9)

    @given(st.text(max_size=40))
    def test_anything_else_is_a_sentence(self, text: str) -> None:
        try:
            star = read_star_line(text)
        except StarListError as error:
            self.assertTrue(str(error))
        else:
            self.assertTrue(math.isfinite(star.ra) and 0 <= star.ra < 360 and -90 <= star.dec <= 90)

    def test_single_lines(self) -> None:
        self.assertEqual(read_star_line("07 42 00 -41 30"), ListedStar("", "", 115.5, -41.5))
        self.assertEqual(read_star_line("k 1, 10, 20, Check"), ListedStar("k 1", "check", 10.0, 20.0))
        self.assertEqual(read_star_line("target, 10, 20"), ListedStar("target", "", 10.0, 20.0))
        for bad in ("", "a", "10", "a, b, c", "10, 95", "361, 0", "a, 10, 20, target, x", "07:60:00, 1"):
            with self.subTest(bad), self.assertRaises(StarListError):
                read_star_line(bad)
