"""Every reader of text takes whatever is written: it gives what was meant, or one sentence that names the file."""

import csv
import io
import math
import tempfile
import tomllib
import unittest
from collections.abc import Callable
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from ulvar.astrometry import CatalogueError, load_catalogue
from ulvar.calibration.overscan import Region, parse_region
from ulvar.flows.starfind import read_stars, star_csv
from ulvar.frames import FrameError, TagRule
from ulvar.frames.sexagesimal import parse_angle, parse_position
from ulvar.frames.times import parse_time
from ulvar.night import Night
from ulvar.night.recipe import RecipeError, read_recipe, recipe_text
from ulvar.photometry import StarListError, read_series, read_star_list
from ulvar.stars import StarTable

settings.register_profile("ulvar", max_examples=60, deadline=None)
settings.load_profile("ulvar")
MOMENTS = st.datetimes(datetime(1858, 11, 18), datetime(2999, 12, 30))
# Letters that tables and headers are made of, and some that they are not.
LETTERS = st.text(st.sampled_from("0123456789+-.:, \t\"'#|=[]{}\nabcdeinfrxyzTZ°\u2212\x00é"), max_size=60)


class Times(unittest.TestCase):
    @given(MOMENTS, st.integers(-14 * 60, 14 * 60), st.sampled_from("T "), st.sampled_from("-/"))
    def test_what_is_written_is_read(self, moment: datetime, ahead: int, between: str, dash: str) -> None:
        text = moment.isoformat(sep=between).replace("-", dash)
        self.assertEqual(parse_time(f" {text} "), moment.replace(tzinfo=UTC))
        self.assertEqual(parse_time(f"{text}Z"), moment.replace(tzinfo=UTC))
        zone = timezone(timedelta(minutes=ahead))
        self.assertEqual(parse_time(moment.replace(tzinfo=zone).isoformat()), moment.replace(tzinfo=zone))

    @given(MOMENTS, st.integers(0, 999_999), st.integers(0, 999))
    def test_finer_than_a_microsecond(self, moment: datetime, micro: int, nano: int) -> None:
        found = parse_time(f"{moment:%Y-%m-%dT%H:%M:%S}.{micro:06d}{nano:03d}")
        self.assertEqual(found, moment.replace(microsecond=micro, tzinfo=UTC))

    @given(LETTERS)
    @example("0001-01-01T00:00:00+01:00")
    @example("9999-12-31T23:59:59-01:00")
    @example("2027-02-30T00:00:00")
    def test_anything_else_is_no_time(self, text: str) -> None:
        found = parse_time(text)
        self.assertTrue(found is None or found.utcoffset() == timedelta(0))


def sexagesimal(value: float, between: str) -> str:
    """Write an angle to a hundredth of a second."""
    hundredths = round(abs(value) * 360_000)
    whole, rest = divmod(hundredths, 360_000)
    minutes, seconds = divmod(rest, 6000)
    return f"{'-' if value < 0 else '+'}{whole:02d}{between}{minutes:02d}{between}{seconds / 100:05.2f}"


class Angles(unittest.TestCase):
    @given(st.floats(-359, 359), st.sampled_from([":", " ", " : "]), st.booleans())
    def test_what_is_written_is_read(self, value: float, between: str, minus: bool) -> None:
        text = sexagesimal(value, between)
        found = parse_angle(text.replace("-", "\u2212") if minus else text)
        self.assertAlmostEqual(found, value, delta=0.0051 / 3600)
        self.assertAlmostEqual(parse_angle(text, hours=True), 15 * found, places=9)
        self.assertEqual(parse_angle(repr(value), hours=True), value)

    @given(st.floats(0, 24, exclude_max=True), st.floats(-90, 90))
    def test_positions(self, hours: float, dec: float) -> None:
        ra, found = parse_position(f"{sexagesimal(min(hours, 23.999), ' ')},{sexagesimal(dec, ':')}")
        self.assertAlmostEqual(ra, 15 * min(hours, 23.999), delta=0.08 / 3600)
        self.assertAlmostEqual(found, dec, delta=0.0051 / 3600)

    @given(LETTERS)
    @example("1e999")
    @example("00:00:59.999999999999999999")
    @example("-:1:2")
    def test_anything_else_is_refused(self, text: str) -> None:
        for parse in (parse_angle, parse_position):
            try:
                found = parse(text)
            except ValueError as error:
                self.assertTrue(str(error))
            else:
                self.assertTrue(np.isfinite(found).all())


class Regions(unittest.TestCase):
    @given(*(st.integers(1, 99_999) for _ in range(4)))
    def test_round_trip(self, xa: int, xb: int, ya: int, yb: int) -> None:
        region = parse_region(f" [{xa}:{xb},{ya}:{yb}]")
        self.assertEqual(region, Region(min(xa, xb) - 1, min(ya, yb) - 1, max(xa, xb), max(ya, yb)))
        self.assertEqual(parse_region(region.text), region)

    @given(st.text(st.sampled_from("[]0123456789:,- *"), max_size=25))
    @example("[0:4,1:2]")
    @example("[1:4,1:2")
    def test_anything_else_is_refused(self, text: str) -> None:
        try:
            region = parse_region(text)
        except ValueError:
            return
        self.assertTrue(0 <= region.x0 < region.x1 and 0 <= region.y0 < region.y1)


PART = st.text(st.characters(exclude_characters="/\x00", exclude_categories=("Cs",)), min_size=1, max_size=12).filter(
    lambda part: part not in (".", "..")
)


class Patterns(unittest.TestCase):
    @given(st.lists(PART, min_size=1, max_size=4), st.integers(0, 3), PART, PART)
    def test_the_value_is_what_stands_there(self, folders: list[str], at: int, before: str, after: str) -> None:
        at %= len(folders)
        value = folders[at]
        wrapped = [*folders[:at], f"{before}{value}{after}", *folders[at + 1 :]]
        # Blanks around a pattern are nobody's folder.
        literal = "{}" not in before + after and "*" not in before + after and (before + after).strip() == before + after
        root = "/night"
        plain = TagRule("t", "/".join(["*"] * at + ["{}"]))
        self.assertEqual(plain.value("/".join([root, *wrapped, "a.fits"]), [root]), wrapped[at])
        if literal:
            rule = TagRule("t", "/".join(["*"] * at + [f"{before}{{}}{after}"]))
            self.assertEqual(rule.value("/".join([root, *wrapped, "a.fits"]), [root]), value)

    @given(st.text(max_size=30), st.lists(PART, max_size=4))
    def test_any_pattern(self, pattern: str, folders: list[str]) -> None:
        try:
            value = TagRule("t", pattern).value("/".join(["/night", *folders, "a.fits"]), ["/night"])
        except ValueError as error:
            self.assertIn("{}", str(error))
        else:
            self.assertTrue(value == "" or any(value in folder for folder in folders))


class Files(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def refused(self, read: Callable[[Path], object], text: str, *kinds: type[Exception]) -> None:
        """Whatever a file holds, it is read, or refused in one sentence with its name."""
        path = self.folder / "given.txt"
        path.write_bytes(text.encode("utf-8", "surrogatepass"))
        try:
            read(path)
        except kinds as error:
            self.assertIn("given.txt", str(error))
            self.assertNotIn("Traceback", str(error))


CELL = st.one_of(LETTERS, st.floats().map(repr), st.sampled_from(["", "nan", "1e400", "target", "saturated|edge", "10:20:30", "-5"]))


def table(header: list[str]) -> st.SearchStrategy[str]:
    """Tables with these columns in the first line, and anything below, of any lengths."""

    def written(rows: list[list[str]]) -> str:
        text = io.StringIO()
        csv.writer(text).writerows([header, *rows])
        return text.getvalue()

    return st.lists(st.lists(CELL, max_size=len(header) + 2), max_size=5).map(written)


class Tables(Files):
    @given(st.one_of(LETTERS, table(["name", "role", "ra", "dec", "x", "y", "time_utc"])))
    @example("name,ra,dec\na,1,2\n\x00")
    def test_star_lists(self, text: str) -> None:
        def read(path: Path) -> None:
            for star in read_star_list(path):
                places = [v for v in (star.ra, star.dec, star.x, star.y) if v is not None]
                self.assertTrue(star.name and (places or star.track))
                self.assertTrue(np.isfinite(places).all())

        self.refused(read, text, StarListError)

    @given(st.one_of(LETTERS, table(["file", "name", "role", "flux", "flux_error", "flags", "time_utc_mid", "x"])))
    def test_series_tables(self, text: str) -> None:
        self.refused(read_series, text, StarListError)

    @given(st.one_of(LETTERS, table(["ra", "dec", "mag", "pmra", "epoch", "other"])))
    @example("ra,dec\n-1e-14,0\n")
    def test_catalogues(self, text: str) -> None:
        def read(path: Path) -> None:
            stars = load_catalogue(path)
            self.assertTrue(((stars.ra >= 0) & (stars.ra < 360) & (np.abs(stars.dec) <= 90)).all())

        self.refused(read, text, CatalogueError)

    @given(st.one_of(LETTERS, table(["x", "y", "flux", "flags", "snr"])))
    def test_star_tables(self, text: str) -> None:
        self.refused(read_stars, text, FrameError)

    @given(st.lists(st.tuples(st.floats(0, 5000), st.floats(0, 5000), st.floats(-1e6, 1e9), st.sampled_from([0, 1, 4])), max_size=6))
    def test_star_tables_come_back(self, rows: list[tuple[float, float, float, int]]) -> None:
        columns = {name: np.full(len(rows), math.nan) for name in StarTable.__dataclass_fields__}
        for at, name in enumerate(("x", "y", "flux")):
            columns[name] = np.array([row[at] for row in rows], dtype=float)
        columns["flags"] = np.array([row[3] for row in rows], dtype=np.int64)
        path = self.folder / "stars.csv"
        path.write_text(star_csv(StarTable(**columns)))
        found = read_stars(path)
        np.testing.assert_allclose(found.x, columns["x"], atol=5.1e-4)
        np.testing.assert_allclose(found.y, columns["y"], atol=5.1e-4)
        np.testing.assert_array_equal(found.flags, columns["flags"])
        self.assertTrue(np.isnan(found.snr).all())


RECIPE_VALUE = st.recursive(
    st.one_of(st.integers(), st.floats(), st.booleans(), st.text(max_size=8), st.sampled_from(["none", "sigma", "intake"])),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text("abckmo_", min_size=1, max_size=8), inner, max_size=3)),
    max_leaves=6,
)


class Recipes(Files):
    def recorded(self) -> tuple[Night, str]:
        night = Night.create(self.folder / "night", [self.folder])
        self.addCleanup(night.close)
        return night, recipe_text(night)

    @given(st.dictionaries(st.sampled_from(["steps", "settings", "stars", "version", "other"]), RECIPE_VALUE, max_size=4))
    def test_any_values(self, body: dict[str, object]) -> None:
        import tomlkit

        self.refused(read_recipe, tomlkit.dumps(body), RecipeError)

    def test_every_setting_spoiled(self) -> None:
        _, text = self.recorded()
        lines = text.split("\n")
        for n, line in enumerate(lines):
            name, mark, _ = line.partition(" = ")
            if not mark:
                continue
            for value in ('"?"', "[]", "-1e300", "{ a = 1 }", "nan", ""):
                with self.subTest(name=name, value=value):
                    self.refused(read_recipe, "\n".join([*lines[:n], f"{name} = {value}", *lines[n + 1 :]]), RecipeError)

    @given(LETTERS)
    def test_any_text(self, text: str) -> None:
        self.refused(read_recipe, text, RecipeError)

    def test_nested_too_deeply_and_marked_by_an_editor(self) -> None:
        self.refused(read_recipe, "a = " + "[" * 5000, RecipeError)
        path = self.folder / "recipe.toml"
        path.write_text("steps = ['plate']\n", encoding="utf-8-sig")
        self.assertEqual(read_recipe(path)[0], ["plate"])

    def test_what_is_recorded_is_read(self) -> None:
        night, text = self.recorded()
        path = self.folder / "recipe.toml"
        path.write_text(text)
        self.assertEqual(read_recipe(path)[1], night.settings)
        self.assertIn("settings", tomllib.loads(text))
