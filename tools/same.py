"""Numbers that were right once stay as they are: results of tests, compared with those kept in `tests/numbers/`.

Truth and plain references tell whether a number is right, within its noise; this tells that it moved, by however little: a threshold, a first
guess, a count of rounds. Where one moves on purpose: `ULVAR_KEEP=1 ./run test MODULE` keeps it anew; then look at what changed in the file.
"""

import json
import math
import os
import re
import unittest
from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from datetime import UTC, datetime
from enum import Enum
from functools import cache
from pathlib import Path, PurePath
from typing import Any

import numpy as np
from tools.drawn import drawn_parts, inside

NUMBERS = Path(__file__).resolve().parent.parent / "tests" / "numbers"
# An array is kept whole up to so many numbers, else as so many sums of its parts.
WHOLE, PARTS = 16, 8
# What other processors and libraries may make of a number: relative, and of numbers around zero.
RELATIVE, ABSOLUTE = 1e-6, 1e-9
# Julian dates are told to 0.2 s, which is far less of them.
JULIAN, OF_A_DAY = (2.4e6, 2.5e6), 2e-6
_REAL, _COUNTS = (float, np.floating), (bool, np.bool_, int, np.integer)


def keeps_anew() -> bool:
    """Whether results are to be kept anew instead of compared; what only drops some of them keeps none."""
    return os.environ.get("ULVAR_KEEP") == "1"


def today() -> str:
    """Return the day as it is written; what tells it tells another one tomorrow."""
    return datetime.now(UTC).strftime("%Y-%m-%d")


def drops() -> bool:
    """Whether what is not the same as it was kept is dropped instead of told."""
    return os.environ.get("ULVAR_KEEP") == "2"


_weights = np.empty(0)


def weights(count: int) -> np.ndarray:
    """Return weights of numbers in a row, each its own, by which a sum tells one that moved or changed its place."""
    global _weights
    if len(_weights) < count:
        _weights = 1 + np.modf(np.arange(max(count, 4096)) * 0.7548776662466927)[0]
    return _weights[:count]


def _sums(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return sums of an array's parts, each number by a weight of its own, and the same of their sizes."""
    flat = np.ravel(values).astype(float)
    if not np.isfinite(flat).all():
        np.nan_to_num(flat, copy=False, posinf=9e9, neginf=-9e9)
    flat *= weights(len(flat))
    starts = np.linspace(0, len(flat), PARTS, endpoint=False).astype(int)
    return np.add.reduceat(flat, starts), np.add.reduceat(np.abs(flat, out=flat), starts)


def leaves(value: Any, name: str = "", *, numbered: bool = True) -> Iterator[tuple[str, Any, float]]:
    """Yield what a result is made of: its place, a number or a word, and how much the number may differ.

    Places in a row have their number, unless they need not.
    """
    if isinstance(value, np.ndarray) and value.ndim == 0:
        value = value[()]
    # What most of it is comes first: a night has tens of thousands.
    if isinstance(value, str):
        yield from _words(value, name)
    elif isinstance(value, _REAL):
        size = abs(float(value))
        yield name, float(value), OF_A_DAY if JULIAN[0] < size < JULIAN[1] else RELATIVE * size
    elif isinstance(value, _COUNTS):
        yield name, int(value), 0.0
    elif is_dataclass(value) and not isinstance(value, type):
        yield from leaves({field.name: getattr(value, field.name) for field in fields(value)}, name, numbered=numbered)
    elif isinstance(value, dict):
        for key, each in value.items():
            # When a file was written is no result.
            if key != "mtime_ns":
                yield from leaves(each, f"{name}[{key.name if isinstance(key, PurePath) else key}]", numbered=numbered)
    elif isinstance(value, np.ndarray) and value.dtype.names:
        yield from leaves({column: value[column] for column in value.dtype.names}, name, numbered=numbered)
    elif isinstance(value, np.ndarray) and value.dtype.kind in "biufc" and value.size > WHOLE:
        parts = (value.real, value.imag) if value.dtype.kind == "c" else (value,)
        missing = int(np.isnan(value).sum()) if value.dtype.kind in "fc" else 0
        yield f"{name}#", f"{value.shape} {missing}", 0.0
        for part in parts:
            for n, (total, size) in enumerate(zip(*_sums(part))):
                yield f"{name}~{n}", float(total), RELATIVE * float(size)
    elif isinstance(value, bytes):
        yield from _words("bytes", name) if (found := inside(value)) is None else leaves(found, name, numbered=numbered)
    elif type(value).__name__ == "Figure":
        for part, each in drawn_parts(value):
            yield from leaves(each, f"{name} {part}", numbered=numbered)
    elif isinstance(value, list | tuple | set | frozenset | np.ndarray):
        each = sorted(value) if isinstance(value, set | frozenset) else list(value)
        if len(each) > 4 and is_dataclass(each[0]) and len({type(one) for one in each}) == 1:
            # Many of a kind are told column by column.
            yield from leaves(
                {f.name: [getattr(one, f.name) for one in each] for f in fields(each[0])}, name, numbered=numbered
            )
        elif len(each) > WHOLE and all(isinstance(one, int | float | np.number) for one in each):
            yield from leaves(np.array(each), name, numbered=numbered)
        else:
            yield f"{name}#", len(each), 0.0
            for n, one in enumerate(each):
                yield from leaves(one, f"{name}[{n}]" if numbered else name, numbered=numbered)
    else:
        yield from _words(value, name)


def _words(value: Any, name: str) -> Iterator[tuple[str, Any, float]]:
    """Yield a word, and each figure in it; of what is no word its kind."""
    if isinstance(value, datetime):
        word = value.isoformat()
    elif isinstance(value, Enum | PurePath):
        word = value.name
    else:
        word = value
    if not isinstance(word, str):
        yield name, word and type(word).__name__, 0.0
    else:
        # Folders of tests have names of their own; a figure in a sentence may differ by one of its last digit, and one with all its digits as
        # any number may.
        word = re.sub(r"(^|(?<=\s))/\S*/", "", word) if "/" in word else word
        apart = re.split(r"(\d+\.\d+)", word) if "." in word else [word]
        yield name, "#".join(apart[::2]), 0.0
        for n, figure in enumerate(apart[1::2]):
            last = 1.01 * 10.0 ** -len(figure.partition(".")[2])
            yield f"{name}'{n}", float(figure), max(last, RELATIVE * float(figure))


def same(now: Any, kept: Any, apart: float) -> bool:
    """Whether a number or a word is what was kept, a number within `apart`."""
    if isinstance(now, float) and isinstance(kept, int | float):
        return (math.isnan(now) and math.isnan(kept)) or now == kept or abs(now - kept) <= apart + ABSOLUTE
    return bool(now == kept)


def short(value: Any) -> Any:
    """Return a number with the digits that are compared; of a Julian date and sums of them these are all."""
    return float(f"{value:.10g}") if isinstance(value, float) and abs(value) < JULIAN[0] else value


def _place(module: str) -> Path:
    return NUMBERS / f"{module.removeprefix('tests.')}.json"


@cache
def stored(module: str) -> dict[str, Any]:
    """Return what is kept of a module, read once for all its tests; who keeps anew puts it in here."""
    path = _place(module)
    return json.loads(path.read_text(encoding="utf-8")) if path.is_file() else {}


def store(module: str) -> None:
    """Write what is kept of a module."""
    path, now = _place(module), stored(module)
    path.parent.mkdir(exist_ok=True)
    lines = (f"{json.dumps(name)}: {json.dumps(now[name], separators=(',', ':'))}" for name in sorted(now))
    path.write_text("{\n" + ",\n".join(lines) + "\n}\n", encoding="utf-8")


def kept(test: unittest.TestCase, *results: Any) -> None:
    """Compare results with those that were kept of this test; each call within a test has its own."""
    module = type(test).__module__
    stored_now = stored(module)
    test._kept = getattr(test, "_kept", 0) + 1  # type: ignore[attr-defined]
    key = f"{type(test).__name__}.{test._testMethodName} {test._kept}"  # type: ignore[attr-defined]
    now = [leaf for n, result in enumerate(results) for leaf in leaves(result, f"{n}")]
    if keeps_anew():
        stored_now[key] = [short(v) for _, v, _ in now]
        store(module)
    before = stored_now.get(key, [])
    moved = [f"{name}: {b} is {v} now" for (name, v, apart), b in zip(now, before) if not same(v, b, apart)]
    test.assertEqual((moved[:20], len(now)), ([], len(before)), f"{key}: ULVAR_KEEP=1 keeps it anew")
