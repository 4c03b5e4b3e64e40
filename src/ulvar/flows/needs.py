"""What a stack takes of this machine, known before anything is resampled."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ulvar.engine import available_bytes
from ulvar.flows.pace import expected_s, time_words
from ulvar.frames import ExposureFacts
from ulvar.stacking import Frame2D, Normalise

if TYPE_CHECKING:
    from ulvar.flows.stack import StackOptions

# Of each pixel of the stack: value, noise, counts and maps, and what is held to measure its sky; of a reconstruction the
# same again and its weights [bytes] (measured, see docs/benchmarks.md).
_STACK_BYTES_PX, _DROPS_BYTES_PX = 36, 60


# Memory of a machine that one would rather know of [bytes].
_MUCH = 1_000_000_000


@dataclass(frozen=True)
class Needs:
    """What a stack needs.

    Attributes
    ----------
    width, height : int
        Of its grid [px].
    memory_bytes : int
        At once, beside the workers that resample.
    disk_bytes : int
        While it is made, in its folder.
    seconds : float
        By the clock, as far as this machine's pace is known; NaN where it is not.
    """

    width: int
    height: int
    memory_bytes: int
    disk_bytes: int
    seconds: float = math.nan

    @property
    def words(self) -> str:
        """The figures in a phrase."""
        time = f"{time_words(self.seconds)}, " if math.isfinite(self.seconds) else ""
        return f"{time}{size_words(self.memory_bytes)} of memory, {size_words(self.disk_bytes)} on disk"

    @property
    def brief(self) -> str:
        """The figures that matter, in fewer words: memory where it is much."""
        memory = f"{size_words(self.memory_bytes)} of memory, " if self.memory_bytes >= _MUCH else ""
        return f"{time_words(self.seconds)}, {memory}{size_words(self.disk_bytes)} on disk"

    @property
    def refusal(self) -> str:
        """Why it cannot be made here, with the figures; empty where it can."""
        free = available_bytes()
        if self.memory_bytes <= free:
            return ""
        return (
            f"a stack of {self.width} x {self.height} px needs {self.memory_bytes / 1024**3:.1f} GiB of memory, and "
            f"{free / 1024**3:.1f} GiB are free: larger pixels (--scale) or a part of it (--part) take less"
        )


def size_words(count: int) -> str:
    """Return a size in bytes for people.

    Examples
    --------
    >>> size_words(340_000_000), size_words(7_200_000_000)
    ('340 MB', '7.2 GB')
    """
    return f"{count / 1e9:.1f} GB" if count >= 1_000_000_000 else f"{max(1, round(count / 1e6))} MB"


def stack_kind(options: StackOptions, calibrated: bool) -> str:
    """Return the kind of work that a stack is (see `expected_s`): its word, then what costs time, in one order."""
    costly = [
        ("raw", calibrated), ("local", options.normalise is Normalise.LOCAL), ("proper", options.proper),
        ("drops", options.drop is not None), ("body", options.body is not None), ("mosaic", options.align == "mosaic"),
    ]  # fmt: skip
    return " ".join(["stack", *(word for word, there in costly if there)])


def expected_needs(
    exposures: Sequence[ExposureFacts], options: StackOptions, *, found: bool, calibrated: bool
) -> Needs:
    """Return what stacking exposures will need, before any is read.

    Parameters
    ----------
    exposures : sequence of ExposureFacts
        At least one.
    options : StackOptions
    found : bool
        Whether their stars are known.
    calibrated : bool
        Whether they are raw and calibrated on the way.

    Notes
    -----
    Of a union or a mosaic the grid is not known before exposures are aligned; what is told is that of one exposure.
    """
    largest = max(exposures, key=lambda f: f.width * f.height)
    part = options.grid.part or (0, 0, largest.width, largest.height)
    grid = Frame2D(max(1, round(part[2] * options.grid.scale)), max(1, round(part[3] * options.grid.scale)), 0, 0)
    pixels = grid.width * grid.height
    needs = stack_needs(grid, len(exposures) * pixels, 2, drops=options.drop is not None)
    read = sum(f.width * f.height for f in exposures) / 1e6
    seconds = expected_s(stack_kind(options, calibrated), len(exposures) * pixels / 1e6, len(exposures))
    if not found:
        seconds += expected_s("find quick raw" if calibrated else "find quick", read, len(exposures))
    return replace(needs, seconds=seconds)


def stack_needs(grid: Frame2D, resampled_px: int, planes: int, *, drops: bool) -> Needs:
    """Return what a stack on a grid needs.

    Parameters
    ----------
    grid : Frame2D
    resampled_px : int
        Pixels of all resampled exposures, which lie on the disk meanwhile.
    planes : int
        Planes of the grid that are written before they are renamed.
    drops : bool
        Whether there is a reconstruction, too.
    """
    pixels = grid.width * grid.height
    memory = (_STACK_BYTES_PX + (_DROPS_BYTES_PX if drops else 0)) * pixels
    return Needs(grid.width, grid.height, memory, 4 * (resampled_px + planes * pixels))
