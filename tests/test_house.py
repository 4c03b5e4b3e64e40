"""The house stays in order: short files, each with a word of what it is for."""

import ast
import fcntl
import json
import os
import sys
import tempfile
import threading
import types
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import tools.same
from tools import kept
from tools.held import held
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


class Numbers(unittest.TestCase):
    def test_what_is_kept_is_of_tests_that_are_there(self) -> None:
        every = "".join(path.read_text(encoding="utf-8") for path in (ROOT / "tests").rglob("*.py"))
        # What is typed wrongly is tried in groups, each a test that is made of a file.
        every += "".join(
            f"def test_{group.split()[0]}(" for group in (ROOT / "tests" / "cli" / "refusals.txt").read_text(encoding="utf-8").split("\n\n")
        )
        for path in tools.same.NUMBERS.glob("*.json"):
            module = (ROOT / "tests" / path.stem.replace(".", "/")).with_suffix(".py").read_text(encoding="utf-8")
            tests = {key.partition(" ")[0].partition(".") for key in json.loads(path.read_text(encoding="utf-8"))}
            gone = [f"{case}.{test}" for case, _, test in tests if f"class {case}(" not in module or f"def {test}(" not in every]
            self.assertEqual(gone, [], path.name)


class Held(unittest.TestCase):
    """A module of tests that somebody else wrote, which asks for less than it is given."""

    def problems(self, *, size: float, word: str, keep: str = "") -> str:
        """Run its test with a routine that returns these; return what is told."""
        module = types.ModuleType("tests.made_up")
        given: dict = {"__name__": "ulvar.made_up"}
        exec("def found(size, word): return {'size': size, 'sizes': [size / n for n in range(1, 9)], 'word': word}", given)

        def test_it(test: unittest.TestCase) -> None:
            module.found(size, word)
            Path(test.folder, "told.csv").write_text(f"name,size\na,{size:.4f}\n")

        case = type("Made", (unittest.TestCase,), {"test_it": test_it, "__module__": module.__name__, "folder": None})
        vars(module).update(found=given["found"], Made=case)
        with tempfile.TemporaryDirectory() as name, mock.patch.dict(sys.modules, {module.__name__: module}):
            held(module)
            test = case("test_it")
            test.folder = Path(name)
            with mock.patch.dict(os.environ, {"ULVAR_KEEP": keep}):
                result = test.run()
        return "".join(words for _, words in result.failures + result.errors)

    def test_what_moves_is_told_until_it_is_kept_anew(self) -> None:
        with tempfile.TemporaryDirectory() as name, mock.patch.object(tools.same, "NUMBERS", Path(name)):
            self.addCleanup(tools.same.stored.cache_clear)
            self.assertIn("0 columns are", self.problems(size=2.0, word="on"))
            self.assertEqual(self.problems(size=2.0, word="on", keep="1"), "")
            tools.same.stored.cache_clear()
            self.assertEqual(self.problems(size=2.0 + 1e-7, word="on"), "")
            self.assertIn("found[word]: ['on'] is ['off'] now", self.problems(size=2.0, word="off"))
            moved = self.problems(size=2.001, word="on")
            for column in ("/.csv", "found[size]: [2.0] is [2.001]", "found[sizes]"):
                self.assertIn(column, moved)
            # Another run says that the word is not always the same: it is compared no more, all else is.
            self.assertEqual(self.problems(size=2.0, word="off", keep="2"), "")
            tools.same.stored.cache_clear()
            self.assertEqual(self.problems(size=2.0, word="up"), "")
            self.assertIn("found[size]", self.problems(size=2.001, word="on"))


class Compiled(unittest.TestCase):
    def test_by_one_process_while_others_wait_for_it(self) -> None:
        asked: list[Any] = []
        routine: Any = types.SimpleNamespace(_cache_file=types.SimpleNamespace(_index_path="a routine of nobody"))
        with mock.patch.object(kept, "_load_overload", lambda *_: asked.pop(0)), kept._place("a routine of nobody").open("ab") as other:
            fcntl.flock(other, fcntl.LOCK_EX)
            # Not there, and being compiled by another: there when that one is done.
            asked += [None, "compiled"]
            threading.Timer(0.2, lambda: fcntl.flock(other, fcntl.LOCK_UN)).start()
            self.assertEqual((kept._load_or_lock(routine, "sig", None), asked, kept._own), ("compiled", [], {}))
            asked += [None, None]
            self.assertIsNone(kept._load_or_lock(routine, "sig", None))
            with self.assertRaises(BlockingIOError):
                fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
            with mock.patch.object(kept, "_save_overload") as saved:
                kept._save_and_unlock(routine, "sig", "made")
            saved.assert_called_once_with(routine, "sig", "made")
            fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
            # One that does not come to an end is not waited for.
            asked += [None, None]
            with mock.patch.object(kept, "_LONGEST", 0.05):
                self.assertEqual((kept._load_or_lock(routine, "sig", None), kept._own), (None, {}))
