"""The memory budget: how much a run may hold at once."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path


def available_bytes() -> int:
    """Return the memory that can be used without swapping [bytes], as Linux estimates it."""
    for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) * 1024
    return 2 * 1024**3


def default_budget() -> int:
    """Return half of the free memory [bytes]: the other half stays with the user's other programs."""
    return available_bytes() // 2


def keep_large_blocks(limit_bytes: int = 1024**3) -> bool:
    """Let this process keep freed memory for its next frame, instead of giving every page back.

    A frame of 24 megapixels is a hundred megabytes; mapped anew for each frame, filling it with pages costs
    three times as much as writing it. Worker processes, which handle one frame after another, call this.
    Returns whether the C library knows how (glibc does).
    """
    import ctypes

    try:
        library = ctypes.CDLL("libc.so.6")
        keep, map_above = -1, -3  # M_TRIM_THRESHOLD and M_MMAP_THRESHOLD of malloc.h
        return bool(library.mallopt(map_above, limit_bytes) and library.mallopt(keep, limit_bytes))
    except (OSError, AttributeError):
        return False


def row_bands(height: int, bytes_per_row: int, budget_bytes: int) -> Iterator[tuple[int, int]]:
    """Yield ``(y0, y1)`` bands that cover ``range(height)`` with each band inside the budget.

    Parameters
    ----------
    height : int
        Rows in all.
    bytes_per_row : int
        What one row of the work costs, all frames together [bytes].
    budget_bytes : int
        What one band may cost [bytes]; at least one row is always given.
    """
    rows = max(1, min(height, budget_bytes // max(1, bytes_per_row)))
    for y0 in range(0, height, rows):
        yield y0, min(height, y0 + rows)
