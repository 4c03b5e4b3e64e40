"""What tests are given stays what it was: whatever a function of Ulvar returns to a test, and what the test finds in its folder at its end.

Of each test of the core it is compared with what it was when the test was looked at (`tests/numbers/`), as far as it is the same each
time and on other processors: what a room's tests never ask for is seen, too, when it moves. Nothing is written into the tests for it: `hold`
sees to their modules as they are imported. `ULVAR_KEEP=1 ./run test MODULE` keeps anew; `ULVAR_KEEP=2` after it drops what another run tells
otherwise.
"""

import functools
import json
import math
import re
import sqlite3
import sys
import threading
import unittest
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec, PathFinder
from pathlib import Path
from types import FunctionType, ModuleType
from typing import Any

import numpy as np
from tools.drawn import inside
from tools.same import JULIAN, drops, keeps_anew, leaves, same, short, store, stored, today, weights
from tools.shown import compare_shown

# Of numbers and words of one name so many are kept one by one; of more their count and a sum by weights. Words up to so many letters are
# kept as they are.
EACH, LETTERS = 3, 48
# A test is held to so many columns and files of so many bytes.
COLUMNS, FILES, BYTES = 1500, 40, 4_000_000

# Of the window's tests it is what the window shows in the end, and what the night remembers.
WINDOW = "tests.desktop."
# Tests of what surrounds Ulvar are not held.
_AROUND = (
    "tests.test_house",
    "tests.test_packaging",
    "tests.test_storm",
    "tests.test_without_compiler",
)
# How often these ask what has come in, or who was first, is the machine's.
_TIMED = (
    "tests.flows.test_watching",
    "tests.night.test_following",
    "tests.night.test_two_at_once",
    "tests.cli.test_signals",
    # These ask in the middle of work, or are compared whole.
    "tests.desktop.test_worker",
    "tests.desktop.test_warming",
    "tests.desktop.test_views",
)
# What is no FITS file leaves words for the next one in the library that reads it.
DAMAGED = ("tests.frames.test_lying",)

# Where functions come from whose results a test is held to.
_GIVEN = ("ulvar.", "tests.", "tools.cases", "tools.nights", "tools.rows")

# What the running test was given: a column's name, and its numbers or words with how much each may differ.
_Columns = dict[str, list[tuple[Any, float]]]


class _Running:
    """The test that runs now."""

    columns: _Columns | None = None
    module = ""
    thread = 0


@functools.cache
def _column(place: str) -> str:
    """Return the column that a place stands in: its name without the numbers in a row."""
    return re.sub(r"\[\d+\]|\d+(?=$)", "", place)


def note(name: str, result: Any) -> None:
    """Hold the running test to a result that it was given otherwise than by a function of Ulvar."""
    if _Running.columns is not None:
        for place, value, apart in leaves(result, name, numbered=False):
            _Running.columns.setdefault(_column(place), []).append((value, apart))


class _Told:
    """A function whose results the running test is held to."""

    def __init__(self, function: Callable[..., Any], module: str) -> None:
        functools.update_wrapper(self, function)
        self._function, self._of = function, module
        self._writes = function.__module__.rpartition(".")[2].startswith("_kernels")

    def __getattr__(self, name: str) -> Any:
        return getattr(self.__dict__["_function"], name)

    def __reduce__(self) -> tuple[Any, ...]:
        # Workers are sent the function itself.
        return functools.partial, (self._function,)

    def __call__(self, *given: Any, **named: Any) -> Any:
        if _Running.columns is None or _Running.module != self._of or threading.get_ident() != _Running.thread:
            return self._function(*given, **named)
        try:
            result = self._function(*given, **named)
        except Exception as problem:
            note(f"{self._function.__name__}!", f"{type(problem).__name__} {problem}")
            raise
        note(self._function.__name__, result)
        if self._writes:
            note(f"{self._function.__name__}()", [each for each in given if isinstance(each, np.ndarray)])
        return result


def _cell(value: Any) -> Any:
    """Return a value of a night; what is JSON without the sum behind it as what it says."""
    if isinstance(value, str) and value[:1] in ("{", "["):
        with suppress(ValueError):
            return json.loads(re.sub(r"#[0-9a-f]+$", "", value))
    return value


def _kept_with(path: Path) -> Any:
    """Return what a night remembers: the rows of its tables, those of several kinds kind by kind."""
    found: dict[str, list[Any]] = {}
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as night:
            night.row_factory = sqlite3.Row
            for (table,) in night.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name"
            ).fetchall():
                for row in night.execute(f"SELECT * FROM {table} ORDER BY 1, 2"):
                    kind = f" {row[0]}" if table in ("meta", "products", "findings") else ""
                    found.setdefault(f"{table}{kind}", []).append(dict(zip(row.keys(), map(_cell, row))))
    except sqlite3.Error:
        return "no night"
    return found


def _file(path: Path) -> Any:
    """Return what is compared of a file: header and pixels, words, what a night remembers; of others nothing but that it is there."""
    if path.stat().st_size > BYTES:
        return None
    if path.suffix == ".sqlite":
        return _kept_with(path)
    if path.suffix in (".fits", ".fit", ".fts"):
        import fitsio

        try:
            with fitsio.FITS(str(path)) as file:
                return [
                    (
                        {r["name"]: r["value"] for r in hdu.read_header().records() if r["name"]},
                        hdu.read() if hdu.has_data() else None,
                    )
                    for hdu in file
                ]
        except Exception:  # Whatever a test of damaged files left there.
            return "no FITS file"
    if path.suffix in (".csv", ".json", ".toml", ".txt", ".ecsv", ".psv", ".md", ".reg", ".xml"):
        return path.read_text(encoding="utf-8", errors="replace").splitlines()
    if path.suffix in (".png", ".pdf", ".svg", ".html"):
        return inside(path.read_bytes())
    return None


def _files(test: unittest.TestCase) -> None:
    folder = vars(test).get("folder")
    window = type(test).__module__.startswith(WINDOW)
    if isinstance(folder, Path) and folder.is_dir():
        every = sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith("."))
        note("/", [str(p.relative_to(folder)) for p in every])
        for path in [p for p in every if not window or p.suffix == ".sqlite"][:FILES]:
            note(f"/{path.suffix}", _file(path))


def _kept(column: list[tuple[Any, float]]) -> Iterator[tuple[Any, float]]:
    """Yield what is kept of a column, and how much it may differ."""
    numbers = [(v, a) for v, a in column if isinstance(v, int | float)]
    words = [f"{v}" for v, _ in column if not isinstance(v, int | float)]
    if len(numbers) <= EACH:
        yield from numbers
    else:
        yield len(numbers), 0.0
        values = np.nan_to_num(np.array([float(v) for v, _ in numbers]), nan=-77.0, posinf=9e9, neginf=-9e9)
        # Larger sums, as those of Julian dates, are kept with all their digits.
        total, size = float((weights(len(values)) * values).sum()), float(np.abs(values).sum())
        yield (
            total,
            2 * sum(a for _, a in numbers if math.isfinite(a)) + (1e-9 if abs(total) < JULIAN[0] else 1e-13) * size,
        )
    if len(words) <= EACH and all(len(word) <= LETTERS for word in words):
        yield from ((word, 0.0) for word in words)
    else:
        yield zlib.crc32("\n".join(words).encode(errors="backslashreplace")), 0.0


def _compare(test: unittest.TestCase, key: str, columns: _Columns) -> None:
    """Compare what a test was given with what is kept of it, or keep it, as the environment asks."""
    module = type(test).__module__
    held = stored(module)
    now = [(name, list(_kept(columns[name]))) for name in sorted(columns)[:COLUMNS]]
    if keeps_anew():
        # What is not the same each time is not from now on either, nor is what tells the day.
        dropped = {n for n, old in enumerate(held.get(key, [])) if old is None and len(held[key]) == len(now)}
        day = today()
        dropped |= {n for n, (name, _) in enumerate(now) if any(day in f"{value}" for value, _ in columns[name])}
        held[key] = [None if n in dropped else [short(value) for value, _ in each] for n, (_, each) in enumerate(now)]
        store(module)
    before = held.get(key, [])
    whole = len(before) == len(now)
    # A column that is none is the same neither each time nor everywhere.
    moved = {
        n: f"{name}: {old} is {[value for value, _ in each]} now"
        for n, ((name, each), old) in enumerate(zip(now, before))
        if old is not None and (len(old) != len(each) or not all(same(v, o, a) for (v, a), o in zip(each, old)))
    }
    if drops() and (moved or not whole):
        held[key] = [None if n in moved else old for n, old in enumerate(before)] if whole else None
        store(module)
        return
    told = (
        list(moved.values())
        if whole
        else [f"{len(before)} columns are {len(now)} now: {[name for name, _ in now][:9]}"]
    )
    test.assertEqual(told[:20], [], f"{key}: ULVAR_KEEP=1 keeps it anew")


def _test(function: Callable[..., Any], *, files: bool) -> Callable[..., Any]:
    @functools.wraps(function)
    def run(test: unittest.TestCase) -> None:
        key, module = f"{type(test).__name__}.{test._testMethodName}", type(test).__module__
        # What is the same neither each time nor everywhere is not noted.
        _Running.columns = None if stored(module).get(key, ()) is None else {}
        _Running.module, _Running.thread = module, threading.get_ident()
        try:
            function(test)
            if files and _Running.columns is not None:
                _files(test)
            columns = _Running.columns
        finally:
            _Running.columns = None
        if columns is not None:
            _compare(test, key, columns)
        compare_shown(test, key)

    return run


def unnoted(function: Callable[..., Any]) -> Callable[..., Any]:
    """Return a function that makes something once for several tests: which of them was first is not noted."""

    @functools.wraps(function)
    def run(*given: Any, **named: Any) -> Any:
        noted, _Running.columns = _Running.columns, None
        try:
            return function(*given, **named)
        finally:
            _Running.columns = noted

    return run


def held(module: ModuleType) -> None:
    """Hold all tests of a module to what they were given before, and to the files in their folders."""
    name = module.__name__
    files = name not in DAMAGED
    for variable, value in list(vars(module).items()):
        own = getattr(value, "__module__", None) or ""
        if isinstance(value, type):
            if own == name:
                for method, function in list(vars(value).items()):
                    if (
                        method.startswith("test")
                        and isinstance(function, FunctionType)
                        and not hasattr(function, "is_hypothesis_test")
                    ):
                        setattr(value, method, _test(function, files=files))
        elif own == name and isinstance(value, functools._lru_cache_wrapper):
            setattr(module, variable, unnoted(value))
        elif callable(value) and own.startswith(_GIVEN) and own != name and hasattr(value, "__name__"):
            setattr(module, variable, _Told(value, name))


class _Finder(MetaPathFinder):
    """Finds test modules, and holds them once they are loaded."""

    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> ModuleSpec | None:
        """Find a test module; leave others to others."""
        test = name.startswith("tests.") and name.rpartition(".")[2].startswith("test_")
        if not test or name.startswith(_AROUND) or name in _TIMED:
            return None
        spec = PathFinder.find_spec(name, path, target)
        if spec is not None and spec.loader is not None:
            load = spec.loader.exec_module

            def load_and_hold(module: ModuleType) -> None:
                load(module)
                held(module)

            spec.loader.exec_module = load_and_hold  # type: ignore[method-assign]
        return spec


def hold() -> None:
    """Hold the test modules that are imported from now on."""
    sys.meta_path.insert(0, _Finder())
