"""Runs unittest again and again in processes forked from this one, which has the libraries loaded but nothing of Ulvar.

Each line that comes over a socket is JSON, ``{"names": [...], "seconds": S, "output": PATH or null, "first": B, "plain": B}``; each is
answered by ``{"code": C, "cpu": S}``, `code` None for what took longer than `seconds`. With a path the tests' output goes there.
With `first` the first failure ends the run, with `plain` nothing is compiled.

Usage: forked.py [--workers] SOCKET ...   (numbers of open files; so many processes answer)

With ``--workers`` Ulvar itself is loaded, too, and the process that its workers are forked from is started once for all tests, instead
of by each module that has work for one: not for code that changes between runs.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import unittest
from collections.abc import Sequence
from multiprocessing import forkserver
from pathlib import Path

# pydantic loads its parts as they are asked for, which after PySide6 ends in a circle: they come first.
_LIBRARIES = (
    "pydantic.types", "pydantic.fields", "pydantic.main", "pydantic.functional_validators", "pydantic.functional_serializers",
    "numpy", "numba", "scipy.ndimage", "scipy.optimize", "scipy.spatial", "scipy.stats", "cv2", "fitsio", "tifffile", "typer",
    "rich.console", "pyarrow.parquet", "hypothesis", "PySide6.QtWidgets", "PySide6.QtTest", "PySide6.QtSvg",
)  # fmt: skip
# What workers import at the latest with their first item, and the routines that they would load then.
_OF_ULVAR = (
    "ulvar.frames.readers", "ulvar.flows.measure", "ulvar.flows.starfind", "ulvar.flows.calibrate", "ulvar.flows.stack",
    "ulvar.flows.intake", "ulvar.flows.masters", "ulvar.flows.pairs", "ulvar.flows.plate", "ulvar.flows.positions", "ulvar.stars.quick",
    "ulvar.stars.detection", "ulvar.simulation", "unittest.mock", "tools.kept", "ulvar.engine.routines", "tools.cases",
)  # fmt: skip
# What most tests import.
_THE_REST = (
    "ulvar.night.stations", "ulvar.simulation", "ulvar.cli.main", "ulvar.desktop.shell.window", "scipy.signal", "matplotlib.figure",
)  # fmt: skip


class Runner:
    """One of the processes that run tests, and how it is asked."""

    def __init__(self, link: socket.socket) -> None:
        self._link = link.makefile("rw", encoding="utf-8")
        link.close()

    def run(
        self, names: Sequence[str], seconds: float, output: Path | None = None, *, first: bool = False, plain: bool = False,
    ) -> tuple[int | None, float]:  # fmt: skip
        """Run tests; returns the exit code (None where time was up) and the processor time [s]."""
        asked = {"names": list(names), "seconds": seconds, "output": None if output is None else str(output)}
        self._link.write(json.dumps(asked | {"first": first, "plain": plain}) + "\n")
        self._link.flush()
        told = json.loads(self._link.readline())
        return told["code"], told["cpu"]

    def close(self) -> None:
        """Ask no more."""
        self._link.close()


class Runners:
    """The other side: starts one process, which loads everything, and so many that are forked from it."""

    def __init__(self, folder: Path, environment: dict[str, str], count: int = 1, *, workers: bool = False) -> None:
        pairs = [socket.socketpair() for _ in range(count)]
        theirs = [other.fileno() for _, other in pairs]
        asked = ["--workers"] if workers else []
        self._process = subprocess.Popen(
            [sys.executable, "-W", "error", "-W", "ignore::DeprecationWarning", "tools/forked.py", *asked, *map(str, theirs)],
            cwd=folder, env=environment, stdin=subprocess.DEVNULL, pass_fds=theirs,
        )  # fmt: skip
        for _, other in pairs:
            other.close()
        self.each = [Runner(own) for own, _ in pairs]

    @property
    def lives(self) -> bool:
        """Whether they can be asked."""
        return self._process.poll() is None

    def close(self) -> None:
        """End them."""
        for runner in self.each:
            runner.close()
        self._process.wait()


def _child(names: list[str], output: str | None, first: bool, plain: bool) -> None:
    os.setpgid(0, 0)
    if plain:
        # Those that start further processes hand it on.
        os.environ["NUMBA_DISABLE_JIT"] = "1"
        importlib.import_module("numba").config.DISABLE_JIT = 1
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    told = os.open(output or os.devnull, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
    for stream in (1, 2):
        os.dup2(told, stream)
    if "--workers" in sys.argv:
        # It runs; that it is not this process's child is no sign of its end.
        forkserver._forkserver.ensure_running = lambda: None  # type: ignore[attr-defined]
    code = 1
    try:
        unittest.main(module=None, argv=["unittest", "-f" if first else "-v", *names])
    except SystemExit as end:
        code = int(end.code or 0)
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


def _run(
    names: list[str], seconds: float, output: str | None, first: bool, plain: bool
) -> tuple[int | None, float]:  # fmt: skip
    child = os.fork()
    if child == 0:
        _child(names, output, first, plain)
    # Waiting costs nothing: who asks again and again takes a hundredth of the processors from the tests.
    handle = os.pidfd_open(child)
    late = not select.select([handle], [], [], seconds)[0]
    os.close(handle)
    if late:
        os.killpg(child, signal.SIGKILL)
    _, status, used = os.wait4(child, 0)
    # Its workers too.
    with contextlib.suppress(ProcessLookupError):
        os.killpg(child, signal.SIGKILL)
    return None if late else os.waitstatus_to_exitcode(status), used.ru_utime + used.ru_stime


def _answer(link: int) -> None:
    with socket.socket(fileno=link) as own, own.makefile("rw", encoding="utf-8") as asked:
        while line := asked.readline():
            code, cpu = _run(**json.loads(line))
            asked.write(json.dumps({"code": code, "cpu": cpu}) + "\n")
            asked.flush()


def main() -> None:
    """Answer until nobody asks."""
    sys.path[0] = str(os.getcwd())  # noqa: PTH109 - as `python -m unittest` does
    for name in _LIBRARIES:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    # The first routine of each process would wait for this.
    target = importlib.import_module("numba.core.registry").cpu_target
    target.typing_context.refresh()
    target.target_context.refresh()
    if "--workers" in sys.argv:
        forkserver.set_forkserver_preload([*(name for name in _LIBRARIES if "Qt" not in name), *_OF_ULVAR])
        forkserver.ensure_running()
        for name in (*_OF_ULVAR, *_THE_REST):
            # What cannot be imported is told by the tests that do so.
            with contextlib.suppress(Exception):
                importlib.import_module(name)
    # What is there now stays: nobody looks through it again, and seldom through the little that tests make.
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)
    answering = []
    for link in (int(word) for word in sys.argv[1:] if word.isdigit()):
        answering.append(os.fork())
        if answering[-1] == 0:
            _answer(link)
            os._exit(0)
        os.close(link)
    for child in answering:
        os.waitpid(child, 0)


if __name__ == "__main__":
    main()
