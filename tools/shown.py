"""What a window shows at the end of a test, and where the test asks for it, stays what it was when the test was looked at: its parts, their places,
words and states, and how it looks.

Each line of `told`, and of what was said, is kept as four letters that stand for it (a check sum). What comes in addition is not told, what is gone or
otherwise is. The figures behind a point are not compared, nor is a window in which work still goes on, or one that another run told otherwise. Its
picture is kept 16x16 pixels to one; blocks that another run showed otherwise are not compared.
"""

import base64
import re
import time
import unittest
import zlib
from typing import Any

import numpy as np
from tools.same import drops, keeps_anew, store, stored

CODE = 4


def _code(line: str) -> str:
    return base64.b64encode(zlib.crc32(line.encode(errors="backslashreplace")).to_bytes(4, "big")[:3]).decode()


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


class _Rests:
    """What a window showed at the moments of its test at which nothing went on."""

    def __init__(self) -> None:
        self.lines: dict[str, str] = {}
        self.looks: list[np.ndarray] = []


def watch(test: unittest.TestCase) -> None:
    """Begin to note what a test's window shows whenever it is at rest."""
    test._rests = _Rests()  # type: ignore[attr-defined]


def _busy(window: Any) -> bool:
    """Whether a window still works, or what it waits for has not come in within two seconds."""
    from PySide6.QtWidgets import QApplication, QLabel

    if not hasattr(window, "toast") or window.model.jobs.busy or window.model.curves.coming:
        return True

    def waits() -> bool:
        # "Being measured…" and its like; a button that opens something is none.
        coming = (each for each in window.findChildren(QLabel) if type(each) is QLabel and each.text().endswith("…"))
        return not window.sky.settled or any(each.isVisible() for each in coming)

    end = time.monotonic() + 2.0
    while (still := waits()) and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)
    return still


def at_rest(test: unittest.TestCase) -> None:
    """Note what a test's window shows now, if it is watched, nothing goes on, and something changed."""
    rests, window = vars(test).get("_rests"), vars(test).get("window")
    if rests is None or window is None or _busy(window):
        return
    from PySide6.QtWidgets import QApplication
    from tools.looks import left_look, told

    # How long something is said in passing is the machine's; a cursor that blinks is there or not.
    said = window.toast.isVisible()
    window.toast.hide()
    QApplication.setCursorFlashTime(0)
    parts = _seen()
    looks = [left_look(part) for part in parts]
    if [look.tobytes() for look in looks] != [look.tobytes() for look in rests.looks[-len(looks) :]]:
        rests.looks += looks
        rests.lines |= {_code(line): line for part in parts for each in told(part) for line in [_plain(each, test)]}
    window.toast.setVisible(said)


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
    before = unpacked(held[key]) if held.get(key) else now
    if held.get(key, []) is None:
        return
    if keeps_anew():
        # What is not the same each time is not from now on either.
        for look, old in zip(now, before):
            if look.shape == old.shape:
                look[(old == ANY).any(axis=-1)] = ANY
        held[key], before = packed(now), now
        store(module)
    other = [left_otherwise(*pair) for pair in zip(now, before)]
    if drops() and (len(now) != len(before) or any(blocks.any() for blocks in other)):
        # Many blocks are another moment of the test, and the next run may find a third.
        alike = len(now) == len(before) and all(blocks.sum() <= LEFT_MANY for blocks in other)
        for old, blocks in zip(before, other if alike else []):
            old[blocks] = ANY
        held[key] = packed(before) if alike else None
        store(module)
        return
    told = {n: np.argwhere(blocks)[:20].tolist() for n, blocks in enumerate(other) if blocks.sum() > LEFT_FEW}
    said = f"{key}: blocks (row, column) look otherwise; ULVAR_KEEP=1 keeps it anew"
    test.assertEqual((told, len(now)), ({}, len(before)), said)


def compare_shown(test: unittest.TestCase, key: str) -> None:
    """Compare what a test's window showed with what is kept of it, or keep it, as the environment asks."""
    from PySide6.QtWidgets import QApplication

    window = vars(test).get("window")
    if window is None or _busy(window):
        return
    for _ in range(5):
        QApplication.processEvents()
    at_rest(test)
    rests = vars(test)["_rests"]
    said = {_code(line): line for words in vars(test).get("messages", ()) for line in [_plain(f"said {words}", test)]}
    _compare_lines(test, f"{key} shown", rests.lines | said)
    _compare_looks(test, f"{key} looks", rests.looks)
