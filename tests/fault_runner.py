"""Runs unittest again and again in processes forked from this one, which has the libraries loaded but nothing of Ulvar.

Each line of standard input is JSON, ``{"names": [...], "seconds": S}``; each is answered by ``{"code": C, "cpu": S}``, `code` None for what
took longer than `seconds`.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import signal
import sys
import time
import unittest

_LIBRARIES = (
    "numpy", "numba", "scipy.ndimage", "scipy.optimize", "scipy.spatial", "scipy.stats", "cv2", "fitsio", "tifffile", "pydantic", "typer",
    "rich.console", "pyarrow.parquet", "hypothesis", "PySide6.QtWidgets", "PySide6.QtTest", "PySide6.QtSvg",
)  # fmt: skip


def _child(names: list[str]) -> None:
    os.setpgid(0, 0)
    nowhere = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(nowhere, stream)
    try:
        unittest.main(module=None, argv=["unittest", "-f", *names])
    except SystemExit as end:
        os._exit(int(end.code or 0))
    finally:
        os._exit(1)


def _run(names: list[str], seconds: float) -> tuple[int | None, float]:
    child = os.fork()
    if child == 0:
        _child(names)
    end, late = time.monotonic() + seconds, False
    while True:
        done, status, used = os.wait4(child, os.WNOHANG)
        if done:
            # Its workers too.
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child, signal.SIGKILL)
            return None if late else os.waitstatus_to_exitcode(status), used.ru_utime + used.ru_stime
        if not late and time.monotonic() > end:
            late = True
            os.killpg(child, signal.SIGKILL)
        time.sleep(0.01)


def main() -> None:
    """Answer until nobody asks."""
    sys.path[0] = str(os.getcwd())  # noqa: PTH109 - as `python -m unittest` does
    for name in _LIBRARIES:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    for line in sys.stdin:
        asked = json.loads(line)
        code, cpu = _run(asked["names"], asked["seconds"])
        sys.stdout.write(json.dumps({"code": code, "cpu": cpu}) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
