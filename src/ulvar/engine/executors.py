"""Long tasks as functions over items, run by any `concurrent.futures.Executor`."""

from __future__ import annotations

import logging
import multiprocessing
import os
import signal
import threading
import time
import warnings
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import dataclass, field
from multiprocessing import connection
from typing import Any, TypeVar

from ulvar.engine.memory import default_budget, keep_large_blocks
from ulvar.engine.progress import Progress, StopRequested, StopToken, silent

log = logging.getLogger(__name__)

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


def _worked(function: Callable[[Item], Result], item: Item) -> Result:
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
_PRELOADED = ["numpy", "fitsio", "cv2", "numba", "scipy.ndimage", "scipy.spatial", "ulvar.frames.readers"]


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


# How long a stop waits for work that has begun [s].
_PATIENCE_S = 2.0


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


@dataclass
class JobContext:
    """What a station is given to run with: an executor (or none), progress, stop, memory.

    With ``executor=None`` items run in the calling thread, which is what library users and small
    tests want.
    """

    executor: Executor | None = None
    progress: Progress = silent
    stop: StopToken = field(default_factory=StopToken)
    budget_bytes: int = 2 * 1024**3
    workers: int = 2
    # Ends the workers at once; what they were at is lost, and made anew by the next run.
    abandon: Callable[[], object] | None = None
    # Gives a new executor in the place of one whose worker has died.
    renew: Callable[[], Executor] | None = None

    def each(
        self, function: Callable[[Item], Result], items: Iterable[Item], text: str, *, item_bytes: int = 0,
        lost: Callable[[Item, str], Result] | None = None,
    ) -> Iterator[tuple[Item, Result]]:  # fmt: skip
        """Yield ``(item, function(item))`` as items finish, at most a few in flight at a time.

        `item_bytes` is what the work on one item holds; where the budget has no room for all workers at once,
        fewer items are in flight, one at least.

        With `lost`, an item that cannot be worked on does not end the others: where its function raises (other than an
        `OSError`, which is about the place the others are written to as well), and where it ends its worker, also when
        it is tried once more alone, ``lost(item, reason)`` stands for its result.

        Raises
        ------
        StopRequested
            After stop was asked; items in flight are finished and dropped, or abandoned after two seconds.
        WorkerDied
            When a worker process ended abnormally, and no new one can be had or `lost` is not given.
        """
        todo = list(items)
        self.progress(0, len(todo), text)
        if self.executor is None:
            for done, item in enumerate(todo, 1):
                self.stop.check()
                try:
                    result = function(item)
                except Exception as error:
                    result = _lost(item, error, lost)
                self.progress(done, len(todo), text)
                yield item, result
            return
        room = self.budget_bytes // item_bytes if item_bytes > 0 else self.workers
        # Two items a worker keep it busy while results travel; with little memory no worker may wait on another.
        flight = 2 * self.workers if room >= self.workers else max(1, room)
        yield from self._each_parallel(function, todo, text, flight, lost)

    def _each_parallel(
        self, function: Callable[[Item], Result], todo: list[Item], text: str, flight: int,
        lost: Callable[[Item, str], Result] | None,
    ) -> Iterator[tuple[Item, Result]]:  # fmt: skip
        waiting = iter(todo)
        flying: dict[Future[Result], Item] = {}
        done = 0
        interrupted = False
        try:
            while True:
                broken = self._submit(function, waiting, flying, flight)
                if not flying and broken is None:
                    break
                finished, _ = wait(flying, timeout=0.2, return_when=FIRST_COMPLETED)
                self.stop.check()
                suspects: list[Item] = []
                for future in finished:
                    item = flying.pop(future)
                    try:
                        result = future.result()
                    except BrokenProcessPool as error:
                        broken = error
                        suspects.append(item)
                        continue
                    except Exception as error:
                        result = _lost(item, error, lost)
                    done += 1
                    self.progress(done, len(todo), text)
                    yield item, result
                if broken is None:
                    continue
                if self.renew is None or lost is None:
                    raise WorkerDied(
                        f"a worker process ended while it was {text.lower()}; {done} of {len(todo)} were finished"
                    ) from broken
                suspects += flying.values()
                flying.clear()
                self.executor = self.renew()
                # One of those that were at work is at fault; the others are not lost with it.
                for item in suspects:
                    result = self._alone(function, item, flying, lost)
                    done += 1
                    self.progress(done, len(todo), text)
                    yield item, result
            self.stop.check()
        except KeyboardInterrupt:
            interrupted = True
            raise
        finally:
            # What runs already is let finish, so that nothing is written after the job says it has ended; after a
            # stop only as long as a person waits.
            running = [future for future in flying if not future.cancel()]
            impatient = (self.stop.stopping or interrupted) and self.abandon is not None
            if wait(running, timeout=_PATIENCE_S if impatient else None).not_done and self.abandon is not None:
                self.abandon()

    def _submit(
        self,
        function: Callable[[Item], Result],
        waiting: Iterator[Item],
        flying: dict[Future[Result], Item],
        flight: int,
    ) -> BrokenProcessPool | None:
        """Hand out items up to as many as may be in flight; returns what is wrong with the executor."""
        assert self.executor is not None
        while len(flying) < flight and not self.stop.stopping:
            item = next(waiting, None)
            if item is None:
                break
            try:
                flying[self.executor.submit(_worked, function, item)] = item
            except BrokenProcessPool as error:
                # It was not begun; a future that never runs stands for it.
                future: Future[Result] = Future()
                future.set_exception(error)
                flying[future] = item
                return error
        return None

    def _alone(
        self, function: Callable[[Item], Result], item: Item, flying: dict[Future[Result], Item],
        lost: Callable[[Item, str], Result],
    ) -> Result:  # fmt: skip
        """Work on an item with nothing beside it, by which it is known whether it is the one that ends workers."""
        assert self.executor is not None and self.renew is not None
        future = self.executor.submit(_worked, function, item)
        flying[future] = item
        while not wait([future], timeout=0.2).done:
            self.stop.check()
        del flying[future]
        try:
            return future.result()
        except BrokenProcessPool:
            self.executor = self.renew()
            return lost(item, "whatever works on it crashes: it was tried twice")
        except Exception as error:
            return _lost(item, error, lost)


def _lost(item: Item, error: Exception, lost: Callable[[Item, str], Result] | None) -> Result:
    """Return what stands for the result of an item whose function raised; raise what is not about the item alone."""
    if lost is None or isinstance(error, OSError | StopRequested):
        raise error
    log.info("an item failed", exc_info=error)
    if isinstance(error, MemoryError):
        return lost(item, "it needs more memory than there is")
    return lost(item, f"it cannot be worked on ({type(error).__name__}: {error})")


class Job:
    """One station's run in a thread of its own, with items in worker processes.

    The thread only coordinates and stores results; a dying worker ends the job with `WorkerDied`.
    `on_change` is called from that thread; a window turns it into a signal.
    """

    def __init__(
        self,
        name: str,
        body: Callable[[JobContext], Any],
        *,
        pools: PoolKeeper,
        on_change: Callable[[Job], None] = lambda job: None,
    ) -> None:
        self.name = name
        self.state = "waiting"
        self.done = 0
        self.total = 0
        self.text = name
        self.result: Any = None
        self.error: BaseException | None = None
        self.token = StopToken()
        self._phase_started = time.monotonic()
        self._body = body
        self._pools = pools
        self._on_change = on_change
        self._thread = threading.Thread(target=self._run, name=f"job-{name}", daemon=True)

    def start(self) -> None:
        """Start the thread."""
        self.state = "running"
        self._thread.start()

    def stop(self) -> None:
        """Ask for a stop; the state becomes ``stopped`` once the items in flight have ended."""
        self.token.stop()

    def join(self, timeout: float | None = None) -> None:
        """Wait for the thread."""
        self._thread.join(timeout)

    @property
    def finished(self) -> bool:
        """Whether the job has ended in any way."""
        return self.state in ("done", "failed", "stopped")

    @property
    def seconds_left(self) -> float | None:
        """Estimate of the time left [s] from the pace so far, or None when it is too early to say."""
        if self.done < 2 or not self.total:
            return None
        pace = (time.monotonic() - self._phase_started) / self.done
        return pace * (self.total - self.done)

    def _progress(self, done: int, total: int, text: str) -> None:
        if done == 0 or text != self.text:
            self._phase_started = time.monotonic()
        self.done, self.total, self.text = done, total, text
        self._on_change(self)

    def _run(self) -> None:
        try:
            context = JobContext(
                executor=self._pools.get(),
                abandon=self._pools.discard,
                renew=self._pools.renewed,
                progress=self._progress,
                stop=self.token,
                budget_bytes=default_budget(),
                workers=self._pools.workers,
            )
            self.result = self._body(context)
            self.state = "done"
        except StopRequested:
            self.state = "stopped"
        except Exception as error:
            if isinstance(error, WorkerDied):
                self._pools.discard()
            log.exception("job %s failed", self.name)
            self.error = error
            self.state = "failed"
        finally:
            self._on_change(self)
