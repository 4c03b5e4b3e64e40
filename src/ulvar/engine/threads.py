"""Work on one array, spread over the threads that this process may use."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

import cv2

Result = TypeVar("Result")

# Starting a thread takes as long as a quick pass over so many.
_LEAST_PIXELS = 100_000


def in_parts(work: Callable[[int, int], Result], size: int, *, smallest: int = 1, each: int = 1) -> list[Result]:
    """Return the results of ``work(start, end)`` over consecutive parts of ``range(size)``, in order.

    There are as many parts as OpenCV may use threads, or `each` times as many: one in worker processes, which fill the cores with
    exposures, and all cores elsewhere. The work must let go of the interpreter's lock to gain by it.

    Parameters
    ----------
    work : callable
        Called with start and end of a part.
    size : int
        Items in all; with none, nothing is called.
    smallest : int
        No part is smaller than this, but for the only one.
    each : int
        Parts for each thread; with several, cores of unlike speed end together.

    Examples
    --------
    >>> sum(in_parts(lambda a, b: b - a, 10))
    10
    """
    if size <= 0:
        return []
    threads = cv2.getNumThreads()
    count = 1 if threads == 1 else max(1, min(threads * each, size // max(1, smallest)))
    edges = [size * k // count for k in range(count + 1)]
    if count == 1:
        return [work(0, size)]
    results: dict[int, Result] = {}
    turn = iter(range(count))

    def take() -> None:
        try:
            for k in turn:
                results[k] = work(edges[k], edges[k + 1])
        except BaseException:
            # Nobody takes any more.
            for _ in turn:
                pass
            raise

    # This thread would only wait: it takes parts, too, and a thread less is started.
    others = min(count, threads) - 1
    with ThreadPoolExecutor(others) as pool:
        waiting = [pool.submit(take) for _ in range(others)]
        take()
        for one in waiting:
            one.result()
    return [results[k] for k in range(count)]


def in_rows(work: Callable[[int, int], Result], shape: tuple[int, ...]) -> list[Result]:
    """Do as `in_parts` with the rows of a picture of a shape; what is too small for a thread to gain by it stays whole."""
    return in_parts(work, shape[0], smallest=max(64, _LEAST_PIXELS // max(1, shape[1])))
