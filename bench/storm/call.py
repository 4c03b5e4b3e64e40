"""One command in a process of its own, forked from this one (which has everything loaded), watched and judged."""

from __future__ import annotations

import contextlib
import gc
import json
import logging
import os
import re
import resource
import select
import signal
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

# A command that takes longer hangs [s]; what it waits for a busy processor does not count.
PATIENCE_S = 20.0
# What a command on small files may take beyond what this process has already [bytes].
MEMORY = 700 * 1024**2
# Where memory is refused, so that a mistake does not take the machine [bytes].
_WALL = 6 * 1024**3
_ODD = re.compile(r"Traceback \(most recent|Error in |\w*Warning: |WARNING \w|[Ss]egmentation|core dumped|status = \d+")


@dataclass(frozen=True)
class Call:
    """What a command did.

    Attributes
    ----------
    process : int
        Its number, and that of its group.
    code : int
        Exit code; negative for the signal that ended it.
    out, err : str
    seconds : float
        By the clock, without the time for which other processes had the processor.
    grown : int
        Memory beyond what the parent had [bytes].
    hung : bool
    """

    words: tuple[str, ...]
    process: int
    code: int
    out: str
    err: str
    seconds: float
    grown: int
    hung: bool

    @property
    def body(self) -> dict[str, Any] | None:
        """What was printed as JSON; None where it is no single object."""
        # Who watches tells each event in a line of its own; the last one sums up.
        out = self.out.strip().rpartition("\n")[2] if "watch" in self.words[:1] else self.out
        try:
            body = json.loads(out)
        except ValueError:
            return None
        return body if isinstance(body, dict) else None

    def faults(self) -> list[str]:
        """Return what no command may do, whatever it was given."""
        found = []
        if self.hung:
            return ["hang"]
        if self.code < 0:
            found.append(f"signal {signal.Signals(-self.code).name}")
        elif self.code not in (0, 1, 2, 3, 130):
            found.append(f"exit {self.code}")
        odd = _ODD.search(self.err) or _ODD.search(self.out)
        if odd:
            found.append("traceback" if odd.group().startswith("Traceback") else "library words")
        if self.grown > MEMORY:
            found.append("memory")
        if "--json" in self.words and self.code >= 0 and self.body is None:
            found.append("no JSON")
        if self.code in (1, 2, 3) and not (self.err.strip() or self.out.strip()):
            found.append("no sentence")
        return found


def preload() -> None:
    """Load what commands load, so that forked ones have it."""
    import importlib

    import cv2

    for name in ("calibration", "camera", "common", "main", "measuring", "nights", "sorting", "stacking"):
        importlib.import_module(f"ulvar.cli.{name}")
    for name in (
        "fitsio",
        "tifffile",
        "rawpy",
        "exifread",
        "scipy.optimize",
        "scipy.ndimage",
        "scipy.spatial",
        "scipy.stats",
        "ulvar.engine.routines",
        "tools.kept",
    ):
        importlib.import_module(name)
    cv2.setNumThreads(1)


def warmed(commands: Sequence[Sequence[str]], folder: Path) -> None:
    """Run commands in this process, so that those forked from it find every kernel loaded that they need."""
    from ulvar.cli import common
    from ulvar.cli.main import main
    from ulvar.engine import atomic

    place, argv, streams = Path.cwd(), sys.argv, (sys.stdout, sys.stderr)
    handlers = {number: signal.getsignal(number) for number in (signal.SIGTERM, signal.SIGINT)}
    hook, console, keeper = sys.unraisablehook, common.errors.file, common.PoolKeeper
    try:
        os.chdir(folder)
        with Path(os.devnull).open("w", encoding="utf-8") as nowhere:
            sys.stdout = sys.stderr = common.errors.file = nowhere
            common.PoolKeeper = NoPools
            for words in commands:
                sys.argv = ["ulvar", *words]
                with contextlib.suppress(SystemExit):
                    main()
    finally:
        os.chdir(place)
        sys.argv, (sys.stdout, sys.stderr) = argv, streams
        sys.unraisablehook, common.errors.file, common.PoolKeeper = hook, console, keeper
        for number, handler in handlers.items():
            signal.signal(number, handler)
        # A process of its own has no log yet, and has looked through no folder.
        logging.getLogger().handlers.clear()
        atomic._cleared.clear()
        # The children are not asked about objects that live as long as this process.
        gc.freeze()


def _run(
    words: Sequence[str], folder: Path, out: int, err: int, workers: bool, prepare: Callable[[], object] | None
) -> None:  # fmt: skip
    """In the child: run the command and end as its process would."""
    os.setpgid(0, 0)
    os.dup2(out, 1)
    os.dup2(err, 2)
    os.chdir(folder)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    have = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (have + _WALL, have + _WALL))
    # Standard streams were opened by the parent, perhaps as something else than files.
    sys.stdout, sys.stderr = os.fdopen(1, "w", encoding="utf-8"), os.fdopen(2, "w", encoding="utf-8")
    sys.argv = ["ulvar", *words]
    from ulvar.cli import common
    from ulvar.cli.main import main

    common.errors.file = sys.stderr
    # Workers would load this harness as the main module of the command.
    vars(sys.modules["__main__"]).pop("__file__", None)
    if not workers:
        # Items run in this process: workers take a second to start.
        common.PoolKeeper = NoPools
    if prepare is not None:
        prepare()
    code = 0
    try:
        main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
        code = 1
    finally:
        # The command has ended; what is left is this harness.
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        # An interpreter that ends waits for its threads, those too that were begun the moment before.
        threading._shutdown()  # type: ignore[attr-defined]
        sys.stdout.flush()
        sys.stderr.flush()
    os._exit(code)


class NoPools:
    """Stands for the pool of workers where items run in the calling process."""

    def __init__(self, workers: int | None = None, *, polite: bool = True) -> None:
        self.workers = 1

    def get(self) -> None:
        """No executor."""

    renewed = discard = close = get


def _waited(process: int) -> float:
    """Return how long a process could have run, had there been a processor for it [s]."""
    try:
        return int(Path(f"/proc/{process}/schedstat").read_text().split()[1]) / 1e9
    except (OSError, IndexError, ValueError):
        return 0.0


def call(
    words: Sequence[str],
    folder: Path,
    *,
    workers: bool = False,
    patience_s: float = PATIENCE_S,
    prepare: Callable[[], object] | None = None,
    meanwhile: Callable[[int, float], object] | None = None,
) -> Call:
    """Run a command in a folder and return what it did.

    `prepare` is called in the command's process before it begins; `meanwhile` is told, again and again while the command
    runs, its process and how long it has run [s].
    """
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        start = time.monotonic()
        base = int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() // 1024
        child = os.fork()
        if child == 0:
            try:
                _run(words, folder, out.fileno(), err.fileno(), workers, prepare)
            except KeyboardInterrupt:
                # It came before the command began or after it ended, while this harness was at work.
                os._exit(130)
            finally:
                os._exit(99)
        hung, waited, handle = False, 0.0, os.pidfd_open(child)
        # Whoever only waits seldom looks: what that takes is taken from the command.
        pause = 0.1 if meanwhile is None else 0.002
        while not select.select([handle], [], [], pause)[0]:
            waited = _waited(child) or waited
            if not hung and time.monotonic() - start - waited > patience_s:
                hung = True
                # Its workers too.
                os.killpg(child, signal.SIGKILL)
            if meanwhile is not None:
                meanwhile(child, time.monotonic() - start)
        os.close(handle)
        waited = _waited(child) or waited
        _, status, used = os.wait4(child, 0)
        out.seek(0)
        err.seek(0)
        return Call(
            tuple(words), child, os.waitstatus_to_exitcode(status), out.read().decode("utf-8", "replace"),
            err.read().decode("utf-8", "replace"), time.monotonic() - start - waited, (used.ru_maxrss - base) * 1024, hung,
        )  # fmt: skip
