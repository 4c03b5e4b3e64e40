"""A made-up film: a faint star that goes out for a while beside a brighter one, at video rates."""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from ulvar.engine import F32Array, atomic_path

_HEADER = struct.Struct("<14s7i40s40s40s2q")
_TICKS_1970 = 621_355_968_000_000_000


@dataclass(frozen=True)
class MadeUpFilm:
    """What is filmed.

    Attributes
    ----------
    width, height, frames : int
    rate : float
        Frames in a second; exposures are as long as their steps.
    stars : tuple of (x, y, flux)
        In the first frame [px, px, ADU a frame]; the first is occulted.
    out_s, back_s : float
        When its light goes and comes, from the start of the first frame [s].
    left : float
        Share of its light that is left.
    fwhm_px, sky, noise : float
        [px, ADU, ADU]; `noise` is that of the reading.
    gain : float
        [e-/ADU]
    shake_px, drift_px : float
        Jumps from frame to frame, and drift over the whole film [px].
    missing, repeated : tuple of int
        Frames that are not recorded (time goes on), and those that are recorded again instead of the next.
    clock : bool
        Whether a running clock is burnt in.
    begins : datetime
    seed : int
    """

    width: int = 320
    height: int = 240
    frames: int = 500
    rate: float = 25.0
    stars: tuple[tuple[float, float, float], ...] = (
        (150.3, 120.6, 900.0),
        (220.7, 90.2, 2000.0),
        (80.0, 180.0, 1200.0),
    )
    out_s: float = 8.0
    back_s: float = 9.0
    left: float = 0.0
    fwhm_px: float = 3.2
    sky: float = 20.0
    noise: float = 2.5
    gain: float = 1.0
    shake_px: float = 0.3
    drift_px: float = 6.0
    missing: tuple[int, ...] = ()
    repeated: tuple[int, ...] = ()
    clock: bool = False
    begins: datetime = datetime(2026, 3, 14, 21, 5, 12, tzinfo=UTC)
    seed: int = 1

    def starts(self) -> np.ndarray:
        """Return when the recorded frames begin, from the first [s]."""
        numbers = [k for k in range(self.frames + len(self.missing)) if k not in set(self.missing)]
        return np.array(numbers[: self.frames]) / self.rate

    def share(self, start_s: float) -> float:
        """Return how much of the star's light a frame from `start_s` on records."""
        step = 1 / self.rate
        hidden = max(0.0, min(start_s + step, self.back_s) - max(start_s, self.out_s)) / step
        return 1 - (1 - self.left) * hidden

    def pictures(self) -> Iterator[F32Array]:
        """Yield the frames [ADU], shape (height, width)."""
        random = np.random.default_rng(self.seed)
        sigma = self.fwhm_px / 2.3548
        reach = math.ceil(5 * sigma)
        starts = self.starts()
        last: F32Array | None = None
        for number, start in enumerate(starts):
            if number in self.repeated and last is not None:
                yield self._clocked(last, start)
                continue
            light = np.full((self.height, self.width), self.sky)
            shift = random.normal(0, self.shake_px, 2) + self.drift_px * start / max(starts[-1], 1e-9)
            for star, (x, y, flux) in enumerate(self.stars):
                x, y = x + shift[0], y + shift[1]
                flux = flux * self.share(float(start)) if star == 0 else flux
                x0, x1 = max(0, int(x) - reach), min(self.width, int(x) + reach + 2)
                y0, y1 = max(0, int(y) - reach), min(self.height, int(y) + reach + 2)
                dx, dy = np.arange(x0, x1) - x, np.arange(y0, y1)[:, None] - y
                light[y0:y1, x0:x1] += flux / (2 * math.pi * sigma**2) * np.exp(-(dx**2 + dy**2) / (2 * sigma**2))
            picture = random.normal(light, np.sqrt(light / self.gain + self.noise**2)).astype(np.float32)
            last = picture
            yield self._clocked(picture, start)

    def _clocked(self, picture: F32Array, start: float) -> F32Array:
        """Return a frame with the clock burnt in, which runs on also where the camera gives a frame again."""
        if not self.clock:
            return picture
        own = picture.copy()
        _burn(own, f"{start:012.3f}")
        return own


def _burn(picture: F32Array, words: str) -> None:
    import cv2

    ink = np.zeros(picture.shape, dtype=np.uint8)
    cv2.putText(ink, words, (12, 20), cv2.FONT_HERSHEY_SIMPLEX, 0.5, 255, 1)
    picture[ink > 0] = ink[ink > 0]


def write_ser(path: Path, film: MadeUpFilm, *, bits: int = 8, stamps: bool = True, big_endian: bool = False) -> None:
    """Write a made-up film as SER, atomically; stamps are of the starts of the frames."""
    with atomic_path(path, replace=True) as place, place.open("wb") as out:
        begin = int(film.begins.timestamp() * 1e7) + _TICKS_1970
        out.write(
            _HEADER.pack(
                b"LUCAM-RECORDER", 0, 0, 0, film.width, film.height, bits, film.frames, b"", b"", b"",
                begin if stamps else 0, begin if stamps else 0,
            )
        )  # fmt: skip
        kind, most = (">u2" if big_endian else "<u2", 65535) if bits > 8 else ("u1", 255)
        for picture in film.pictures():
            out.write(np.clip(np.round(picture), 0, most).astype(kind).tobytes())
        if stamps:
            ticks = begin + np.round(film.starts() * 1e7).astype(np.int64)
            out.write(ticks.astype("<i8").tobytes())
