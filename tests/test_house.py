"""The house stays in order: short files, each with a word of what it is for."""

import ast
import unittest
from pathlib import Path

import numpy as np
from tools.same import leaves, same

ROOT = Path(__file__).resolve().parent.parent
LONGEST = 400


class Files(unittest.TestCase):
    def test_no_file_is_long_and_each_says_what_it_is_for(self) -> None:
        files = sorted((ROOT / "src").rglob("*.py"))
        self.assertGreater(len(files), 200)
        for path in files:
            text = path.read_text(encoding="utf-8")
            with self.subTest(str(path.relative_to(ROOT))):
                self.assertLessEqual(text.count("\n"), LONGEST)
                self.assertTrue(ast.get_docstring(ast.parse(text)))

    def test_tests_are_25_to_30_percent_of_the_lines(self) -> None:
        """Fewer would miss too much; more would be more to read and to wait for than they find."""

        def lines(folder: str) -> int:
            return sum(path.read_text(encoding="utf-8").count("\n") for path in (ROOT / folder).rglob("*.py"))

        share = lines("tests") / sum(map(lines, ("src", "tests", "tools", "bench")))
        self.assertTrue(0.25 <= share <= 0.30, f"{share:.1%}")

    def test_a_kept_array_tells_of_one_value_that_moved(self) -> None:
        values = np.random.default_rng(1).normal(0, 1, 3000)
        before = list(leaves((values, 2461448.25, "3.20 mag")))
        values[1234] += 0.01
        now = leaves((values, 2461448.25001, "3.22 mag"))
        self.assertEqual([n for (n, v, apart), (_, was, _) in zip(now, before) if not same(v, was, apart)], ["[0]~3", "[1]", "[2]'0"])
