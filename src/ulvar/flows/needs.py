"""What a stack takes of this machine, known before anything is resampled."""

from __future__ import annotations

from dataclasses import dataclass

from ulvar.engine import available_bytes
from ulvar.stacking import Frame2D

# Of each pixel of the stack: value, noise, counts and maps, and what is held to measure its sky; of a reconstruction the
# same again and its weights [bytes] (measured, see docs/benchmarks.md).
_STACK_BYTES_PX, _DROPS_BYTES_PX = 36, 60


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
    """

    width: int
    height: int
    memory_bytes: int
    disk_bytes: int

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
