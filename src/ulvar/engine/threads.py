"""Work on one array, spread over the threads that this process may use."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

import cv2

Result = TypeVar("Result")


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
    with ThreadPoolExecutor(min(count, threads)) as pool:
        return list(pool.map(work, edges[:-1], edges[1:]))
