"""What a window shows at the end of a test, and where the test asks for it, stays what it was when the test was looked at: its parts, their places,
words and states, and how it looks.

Each line of `told`, and of what was said, is kept as six figures that stand for it (a check sum). What comes in addition is not told, what is gone or
otherwise is. The figures behind a point are not compared, nor is a window in which work still goes on, or one that another run told otherwise. Its
picture is kept 16x16 pixels to one; blocks that another run showed otherwise are not compared.
"""

import re
import time
import unittest
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from tools.same import drops, keeps_anew, store, stored, today

CODE = 6


def _code(line: str) -> str:
    return f"{zlib.crc32(line.encode(errors='backslashreplace')) >> 8:06x}"


def _codes(word: str) -> set[str]:
    return {word[n : n + CODE] for n in range(0, len(word), CODE)}


def _plain(line: str, test: unittest.TestCase) -> str:
    """Return a line without the figures behind a point and the name of the test's folder."""
    folder = str(vars(test).get("folder", "-"))
    line = re.sub(r"\d+\.(\d+)", lambda m: "#." + "#" * len(m.group(1)), line.replace(folder, "folder"))
    return line.replace(folder.rpartition("/")[2], "folder")


def _seen() -> list[Any]:
    """Return all windows in sight, but for what is told beside the pointer."""
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QApplication

    every = [w for w in QApplication.topLevelWidgets() if w.isVisible() and w.windowType() != Qt.WindowType.ToolTip]
    return sorted(every, key=lambda w: type(w).__name__)


@dataclass
class _Shown:
    """What a test's window showed: lines by their codes, and how it looked."""

    lines: dict[str, str] = field(default_factory=dict)
    looks: list[np.ndarray] = field(default_factory=list)


def _busy(window: Any) -> bool:
    """Whether a window still works, or what it waits for has not come in within two seconds."""
    from PySide6.QtCore import QAbstractAnimation
    from PySide6.QtWidgets import QApplication, QLabel, QLineEdit

    if window.model.jobs.busy or window.model.curves.coming:
        return True

    def waits() -> bool:
        # "Being measured…" and its like; a button that opens something is none.
        coming = (each for each in window.findChildren(QLabel) if type(each) is QLabel and each.text().endswith("…"))
        # The button that clears a field comes and goes by degrees.
        fades = (one for field in window.findChildren(QLineEdit) for one in field.findChildren(QAbstractAnimation))
        if any(one.state() == QAbstractAnimation.State.Running for one in fades):
            return True
        return bool(window.sky.shown_path and not window.sky.settled) or any(each.isVisible() for each in coming)

    end = time.monotonic() + 2.0
    while (still := waits()) and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)
    return still


def at_rest(test: unittest.TestCase, *parts: Any) -> bool:
    """Note what these parts of a test's window show now, or all in sight; not without a window, or where something still goes on."""
    window = vars(test).get("window")
    if not hasattr(window, "toast"):
        return False
    from PySide6.QtWidgets import QApplication
    from tools.looks import left_look, told

    for _ in range(5):
        QApplication.processEvents()
    if _busy(window):
        return False
    # How long something is said in passing is the machine's; a cursor that blinks is there or not.
    said = window.toast.isVisible()
    window.toast.hide()
    QApplication.setCursorFlashTime(0)
    shown = vars(test).setdefault("_shown", _Shown())
    day = today()
    words = (day, *([Path(test.folder).name] if hasattr(test, "folder") else []))
    for part in parts or _seen():
        shown.looks.append(left_look(part, words))
        shown.lines |= {_code(line): line for each in told(part) if day not in each for line in [_plain(each, test)]}
    window.toast.setVisible(said)
    return True


def _compare_lines(test: unittest.TestCase, key: str, now: dict[str, str]) -> None:
    """Compare what windows said with what is kept of it."""
    module = type(test).__module__
    held = stored(module)
    before = held.get(key, "")
    if before is None:
        return
    if keeps_anew():
        before = held[key] = "".join(sorted(now))
        store(module)
    gone = _codes(before) - now.keys()
    if gone and drops():
        held[key] = None
        store(module)
        return
    said = f"{key}: so many lines are gone or read otherwise, maybe as {[now[code] for code in now.keys() - _codes(before)][:20]}"
    test.assertEqual(len(gone), 0, f"{said}; ULVAR_KEEP=1 keeps it anew")


def _compare_looks(test: unittest.TestCase, key: str, now: list[np.ndarray]) -> None:
    """Compare how windows looked with what is kept of it."""
    from tools.looks import ANY, LEFT_FEW, LEFT_MANY, left_otherwise, packed, unpacked

    module = type(test).__module__
    held = stored(module)
    if key in held and held[key] is None:
        return
    before = [unpacked(word) for word in held.get(key, ())] or now
    if keeps_anew():
        # What is not the same each time is not from now on either.
        for look, old in zip(now, before):
            if look.shape == old.shape:
                look[(old == ANY).any(axis=-1)] = ANY
        held[key], before = [packed(look) for look in now], now
        store(module)
    other = [left_otherwise(*pair) for pair in zip(now, before)]
    if drops() and (len(now) != len(before) or any(blocks.any() for blocks in other)):
        # Many blocks are another moment of the test, and the next run may find a third.
        alike = len(now) == len(before) and all(blocks.sum() <= LEFT_MANY for blocks in other)
        for old, blocks in zip(before, other if alike else []):
            old[blocks] = ANY
        held[key] = [packed(look) for look in before] if alike else None
        store(module)
        return
    told = {n: np.argwhere(blocks)[:20].tolist() for n, blocks in enumerate(other) if blocks.sum() > LEFT_FEW}
    said = f"{key}: blocks (row, column) look otherwise; ULVAR_KEEP=1 keeps it anew"
    test.assertEqual((told, len(now)), ({}, len(before)), said)


def compare_shown(test: unittest.TestCase, key: str) -> None:
    """Compare what a test's window showed with what is kept of it, or keep it, as the environment asks."""
    if not at_rest(test):
        return
    shown: _Shown = vars(test)["_shown"]
    said = {_code(line): line for words in vars(test).get("messages", ()) for line in [_plain(f"said {words}", test)]}
    _compare_lines(test, f"{key} shown", shown.lines | said)
    _compare_looks(test, f"{key} looks", shown.looks)
