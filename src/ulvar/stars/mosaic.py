"""Stars on the mosaic of a colour sensor: its bands are brought to one scale before stars are looked for."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ulvar.engine import BoolArray, F32Array
from ulvar.frames import CELL_SITES, Frame, MaskBit, cell_colours, is_mosaic, white_balance
from ulvar.stars.background import estimate_background


@dataclass(frozen=True)
class EvenMosaic:
    """A mosaic with all pixels on the scale of green.

    Attributes
    ----------
    data : float32 array, shape (height, width)
        [ADU of green].
    bands : tuple of four (float, float)
        Sky level as it was measured [ADU], and factor, of each pixel of the cell, first row first.
    """

    data: F32Array
    bands: tuple[tuple[float, float], ...]

    @property
    def gain_share(self) -> float:
        """What the gain is to be multiplied by: an ADU of a band that was brightened holds fewer electrons."""
        return len(self.bands) / sum(factor for _, factor in self.bands) if self.bands else 1.0


def even_mosaic(data: F32Array, cfa: str, *, hidden: BoolArray, box_px: int = 64) -> EvenMosaic:
    """Bring a mosaic's bands to one scale: the sky of green, and the average star white.

    As it was measured, the sky of the bands differs by many times its noise, and no star stands out over that
    checkerboard. Nothing is interpolated: each pixel keeps its own measurement, so noise stays white and the profile
    unsmoothed. Stars of another colour than the average keep a faint checkerboard.

    Parameters
    ----------
    data : float32 array, shape (height, width)
        [ADU]; not modified.
    cfa : str
        Cell of the mosaic, see `ulvar.frames.is_mosaic`.
    hidden : bool array
        Pixels not to be used.
    box_px : int
        Cells of the background's mesh [px].

    Returns
    -------
    EvenMosaic
        With the data as they are where a band has no usable pixels.
    """
    seen = np.where(hidden, np.float32(np.nan), data) if hidden.any() else data
    skies = [
        estimate_background(
            np.ascontiguousarray(data[at]),
            masked=np.ascontiguousarray(hidden[at]),
            box_px=max(8, box_px // 2),
            samples=512,
        )
        for at in CELL_SITES
    ]
    levels = [sky.sky_adu for sky in skies]
    if not np.isfinite(levels).all():
        return EvenMosaic(data, ())
    balance = white_balance(cell_colours(seen, cfa))
    factors = [balance["RGB".index(colour)][1] for colour in cfa]
    # Where the sky slopes, it goes on sloping as green sees it. Bands of an odd frame differ by a row or a column.
    green = [k for k, colour in enumerate(cfa) if colour == "G"]
    height, width = (min(sky.level.shape[axis] for sky in skies) for axis in (0, 1))
    slope = np.mean([skies[k].level[:height, :width] for k in green], axis=0, dtype=np.float32)
    even = np.empty_like(data)
    for at, sky, factor in zip(CELL_SITES, skies, factors):
        rows, columns = sky.level.shape
        base = np.pad(slope, ((0, rows - height), (0, columns - width)), mode="edge")
        even[at] = (data[at] - sky.level) * np.float32(factor) + base
    return EvenMosaic(even, tuple(zip(levels, factors)))


def even_frame(frame: Frame) -> Frame:
    """Return a mosaic's frame with its bands on the scale of green, its gain on the average of theirs; another as it is."""
    if not is_mosaic(frame.facts.cfa):
        return frame
    hidden = ~np.isfinite(frame.data)
    if frame.mask is not None:
        hidden |= (frame.mask & ~np.uint16(MaskBit.REPAIRED)) != 0
    even = even_mosaic(frame.data, frame.facts.cfa, hidden=hidden)
    gain = frame.facts.gain_e_per_adu
    facts = replace(frame.facts, gain_e_per_adu=gain * even.gain_share if gain else gain)
    return replace(frame, data=even.data, facts=facts)
