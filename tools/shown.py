"""What a window shows at the end of a test stays what it was when the test was looked at: its parts, their places, words and states, and how it looks.

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


def _settled(window: Any) -> bool:
    """Whether a window's picture has come in, within two seconds."""
    from PySide6.QtWidgets import QApplication

    end = time.monotonic() + 2.0
    while not window.sky.settled and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)
    window.toast.hide()
    # A cursor that blinks is there or not.
    QApplication.setCursorFlashTime(0)
    for _ in range(5):
        QApplication.processEvents()
    return bool(window.sky.settled)


def _compare_looks(test: unittest.TestCase, key: str, now: list[str]) -> None:
    """Compare how windows look with what is kept of it."""
    from tools.looks import LEFT_FEW, left_alike, left_otherwise

    module = type(test).__module__
    held = stored(module)
    before = held.get(key, now)
    if before is None:
        return
    if keeps_anew():
        # What is not the same each time is not from now on either.
        alike = [left_alike(*pair) for pair in zip(now, before)]
        held[key] = before = now = alike + now[len(alike) :]
        store(module)
    other = [left_otherwise(*pair) for pair in zip(now, before)]
    if drops() and (len(now) != len(before) or any(blocks for blocks, _ in other)):
        rests = [rest for _, rest in other]
        held[key] = rests if len(now) == len(before) and all(rests) else None
        store(module)
        return
    told = [blocks[:20] for blocks, _ in other if len(blocks) > LEFT_FEW]
    said = f"{key}: blocks (row, column) look otherwise; ULVAR_KEEP=1 keeps it anew"
    test.assertEqual((told, len(now)), ([], len(before)), said)


def compare_shown(test: unittest.TestCase, key: str) -> None:
    """Compare what a test's window shows in the end with what is kept of it, or keep it, as the environment asks."""
    window = vars(test).get("window")
    module = type(test).__module__
    if window is None or not hasattr(window, "toast") or window.model.jobs.busy or window.model.curves.coming:
        return
    from tools.looks import left_look, told

    settled = _settled(window)
    held = stored(module)
    before = held.get(f"{key} shown", "")
    if before is not None:
        lines = [_plain(line, test) for part in _seen() for line in told(part)]
        lines += [_plain(f"said {words}", test) for words in vars(test).get("messages", ())]
        now = {_code(line): line for line in lines}
        if keeps_anew():
            before = held[f"{key} shown"] = "".join(sorted(now))
            store(module)
        gone = _codes(before) - now.keys()
        if gone and drops():
            held[f"{key} shown"] = None
            store(module)
        else:
            said = f"{key}: so many lines are gone or read otherwise, maybe as {[now[code] for code in now.keys() - _codes(before)][:20]}"
            test.assertEqual(len(gone), 0, f"{said}; ULVAR_KEEP=1 keeps it anew")
    if settled:
        _compare_looks(test, f"{key} looks", [left_look(part) for part in _seen()])
