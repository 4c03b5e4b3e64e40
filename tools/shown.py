"""What a window shows at the end of a test stays what it was when the test was looked at: its parts, their places, words and states.

Each line of `told` is kept as four letters that stand for it (a check sum). What comes in addition is not told, what is gone or otherwise is.
The figures behind a point are not compared, nor is a window in which work still goes on, or one that another run told otherwise.
"""

import base64
import re
import unittest
import zlib
from typing import Any

from tools.same import drops, keeps_anew, store, stored

CODE = 4


def _code(line: str) -> str:
    return base64.b64encode(zlib.crc32(line.encode(errors="backslashreplace")).to_bytes(4, "big")[:3]).decode()


def _codes(word: str) -> set[str]:
    return {word[n : n + CODE] for n in range(0, len(word), CODE)}


def _lines(test: unittest.TestCase, window: Any) -> dict[str, str]:
    """Return the lines that all windows show now, by their codes."""
    from PySide6.QtWidgets import QApplication
    from tools.looks import told

    window.toast.hide()
    for _ in range(5):
        QApplication.processEvents()
    folder = str(vars(test).get("folder", "-"))
    found = {}
    for part in sorted((w for w in QApplication.topLevelWidgets() if w.isVisible()), key=lambda w: type(w).__name__):
        for line in told(part):
            line = re.sub(r"\d+\.(\d+)", lambda m: "#." + "#" * len(m.group(1)), line.replace(folder, "folder"))
            line = line.replace(folder.rpartition("/")[2], "folder")
            found[_code(line)] = line
    return found


def compare_shown(test: unittest.TestCase, key: str) -> None:
    """Compare what a test's window shows in the end with what is kept of it, or keep it, as the environment asks."""
    window = vars(test).get("window")
    module = type(test).__module__
    if window is None or not hasattr(window, "toast") or window.model.jobs.busy or window.model.curves.coming:
        return
    held = stored(module)
    before = held.get(key, "")
    if before is None:
        return
    now = _lines(test, window)
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
