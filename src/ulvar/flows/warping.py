"""Resampling one exposure onto a stack's grid, into a file of rows."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.engine import F32Array, Failed, with_place
from ulvar.frames import ExposureFacts, FrameError, MaskBit, read_frame
from ulvar.registration import Transform, resample
from ulvar.stars import even_frame

_HIDDEN = np.uint16(MaskBit.NO_DATA | MaskBit.HOT | MaskBit.COLD | MaskBit.COLUMN | MaskBit.COSMIC)


@dataclass(frozen=True)
class WarpTask:
    """Which exposure goes where; a plain one is taken as it is."""

    facts: ExposureFacts
    transform: Transform
    shape: tuple[int, int]
    scratch: str
    plain: bool


class ScratchRows:
    """Rows of a float32 scratch file."""

    def __init__(self, path: str, shape: tuple[int, int]) -> None:
        self.height, self.width = shape
        self._data = np.memmap(path, dtype=np.float32, mode="r", shape=shape)

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows as a new array."""
        return np.array(self._data[y0:y1])


def warp_item(task: WarpTask) -> Failed | None:
    """Resample one exposure into its scratch file (runs in a worker)."""
    try:
        frame = read_frame(task.facts)
    except FrameError as error:
        return Failed(error.reason, task.facts.path)
    if not task.plain:
        # Resampled, a mosaic is none any more: its colours are brought to one scale before they mix.
        frame = even_frame(frame)
    data = frame.data
    if frame.mask is not None:
        # read_frame gives a fresh array, so it may be marked in place.
        data[(frame.mask & _HIDDEN) != 0] = np.nan
    if task.plain:
        if data.shape != task.shape:
            return Failed(f"its size {data.shape[1]} x {data.shape[0]} px is not the reference's", task.facts.path)
        warped = data
    else:
        warped = resample(data, task.transform, task.shape)
    try:
        warped.tofile(task.scratch)
    except OSError as error:
        # The folder of the stack, not the scratch folder in it, is what people know.
        raise with_place(error, Path(task.scratch).parent.parent) from error
    return None
