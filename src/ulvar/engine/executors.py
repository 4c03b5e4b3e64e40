"""Long tasks as functions over items, run by any `concurrent.futures.Executor`."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from typing import Any, TypeVar

from ulvar.engine.memory import default_budget
from ulvar.engine.pools import PoolKeeper, WorkerDied, worked
from ulvar.engine.progress import Progress, StopRequested, StopToken, silent

log = logging.getLogger(__name__)

Item = TypeVar("Item")
Result = TypeVar("Result")


# How long a stop waits for work that has begun [s].
_PATIENCE_S = 1.5


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
            After stop was asked; items in flight are finished and dropped, or abandoned after a second and a half.
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

    def each_in_order(
        self, function: Callable[[Item], Result], items: Iterable[Item], text: str, *, item_bytes: int = 0,
        lost: Callable[[Item, str], Result] | None = None,
    ) -> list[tuple[Item, Result]]:  # fmt: skip
        """Return what `each` yields when all is done, in the order of the items.

        Sums, and whatever picks the first of two equals, come out the same only if they go through results in one order,
        whichever worker was the quicker.
        """
        todo = list(items)
        place = {id(item): n for n, item in enumerate(todo)}
        found = self.each(function, todo, text, item_bytes=item_bytes, lost=lost)
        return sorted(found, key=lambda one: place[id(one[0])])

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
        except (KeyboardInterrupt, GeneratorExit):
            # Ctrl+C may come while a result is stored, outside of here: then nobody asks for more.
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
                flying[self.executor.submit(worked, function, item)] = item
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
        future = self.executor.submit(worked, function, item)
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
        # The job goes on meanwhile, in another thread.
        done, total = self.done, self.total
        if done < 2 or not total:
            return None
        return (time.monotonic() - self._phase_started) / done * max(0, total - done)

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
