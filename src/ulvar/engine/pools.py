"""Pools of worker processes: forked from a server that has loaded what all need, ended with their parent."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
import warnings
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from multiprocessing import connection
from typing import TypeVar

from ulvar.engine.memory import keep_large_blocks

Item = TypeVar("Item")
Result = TypeVar("Result")


class WorkerDied(RuntimeError):
    """A worker process ended while it had work; finished items are kept."""


def _end_with_parent() -> None:
    """End this process as soon as its parent is gone, however that ended."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        # A pipe that the kernel closes with the parent. The system's own signal for it comes when the *thread* ends that
        # started a worker, and a window's workers outlive the job they were started for.
        connection.wait([parent.sentinel])
        os.kill(os.getpid(), signal.SIGTERM)
        # A kernel at work, or one being compiled, hears no signal before it is done.
        time.sleep(_LAST_WORDS_S)
        os._exit(1)


# Whether this worker is at an item.
_at_work = False


def worked(function: Callable[[Item], Result], item: Item) -> Result:
    """Work on one item, in a worker."""
    global _at_work
    _at_work = True
    try:
        return function(item)
    finally:
        _at_work = False


# How long a worker that is told to end has for taking away what it was writing [s].
_LAST_WORDS_S = 0.3


def _end_worker(number: int, frame: object) -> None:
    if not _at_work:
        os._exit(1)
    # The item's own clean-up runs on the way out, and takes away a file that is half-written. The executor would go on
    # with the next item: the process ends whatever it is doing by then.
    threading.Timer(_LAST_WORDS_S, os._exit, (1,)).start()
    raise KeyboardInterrupt


def _prepare_worker(polite: bool) -> None:
    signal.signal(signal.SIGTERM, _end_worker)
    # What cannot be computed comes out as no value, and is told as such where it matters.
    warnings.simplefilter("ignore", RuntimeWarning)
    threading.Thread(target=_end_with_parent, name="ulvar-parent", daemon=True).start()
    # Ctrl+C goes to the whole process group; the parent decides what stops, not each worker.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    keep_large_blocks()
    if polite:
        # Whoever looks and clicks goes first: workers take the time that is left.
        os.nice(19)
    # Item parallelism already fills the cores; a library's own threads would only fight over them.
    import cv2

    cv2.setNumThreads(1)


# What every item needs, loaded once by the process that workers are forked from.
_PRELOADED = [
    "numpy", "fitsio", "cv2", "scipy.ndimage", "scipy.spatial", "ulvar.engine.routines", "ulvar.frames.readers",
]  # fmt: skip


def _server() -> multiprocessing.context.BaseContext:
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(_PRELOADED)
    return context


def worker_pool(workers: int | None = None, *, polite: bool = False) -> ProcessPoolExecutor:
    """Return a pool of worker processes: a crash in one takes the job, not the caller.

    They are forked from a server process that has loaded what all need, and are ready in a moment once that is there.

    Polite workers run at the lowest priority, beside a window that somebody uses.
    """
    count = workers or max(1, len(os.sched_getaffinity(0)))
    return ProcessPoolExecutor(
        max_workers=count,
        mp_context=_server(),
        initializer=_prepare_worker,
        initargs=(polite,),
    )


# How long a killed process may still wait for its disk [s].
_LAST_WRITE_S = 20.0


class PoolKeeper:
    """Keeps one worker pool, polite by default, warm between jobs and makes a new one when the old one has broken."""

    def __init__(self, workers: int | None = None, *, polite: bool = True) -> None:
        self._polite = polite
        self.workers = workers or max(1, len(os.sched_getaffinity(0)))
        self._pool: ProcessPoolExecutor | None = None
        self._lock = threading.Lock()

    def get(self) -> ProcessPoolExecutor:
        """Return the pool, started if need be."""
        with self._lock:
            if self._pool is None:
                self._pool = worker_pool(self.workers, polite=self._polite)
            return self._pool

    def renewed(self) -> ProcessPoolExecutor:
        """Return a new pool in the place of one that has broken."""
        self.discard()
        return self.get()

    def discard(self) -> None:
        """End a pool at once, and wait until its processes are gone.

        Each may take away what it was writing. A killed process that was waiting for the disk lives on until the disk
        answers; only then is it certain that nothing more is written.
        """
        with self._lock:
            pool, self._pool = self._pool, None
        if pool is None:
            return
        processes = list((getattr(pool, "_processes", None) or {}).values())
        pool.shutdown(wait=False, cancel_futures=True)
        for process in processes:
            with suppress(OSError, ValueError):
                process.terminate()
        deadline = time.monotonic() + 3 * _LAST_WORDS_S
        for process in processes:
            try:
                process.join(max(0.0, deadline - time.monotonic()))
                process.kill()
                # Its pipe closes a moment before it ends; until it was waited for it would count as alive.
                process.join(_LAST_WRITE_S)
            except (OSError, ValueError):
                # It was taken away already.
                continue

    def close(self) -> None:
        """End the workers and wait for them."""
        with self._lock:
            pool, self._pool = self._pool, None
        if pool is not None:
            pool.shutdown(wait=True, cancel_futures=True)

    @property
    def pids(self) -> list[int]:
        """Process ids of the workers now alive."""
        return list(getattr(self._pool, "_processes", None) or {})
