"""Trails of satellites and aeroplanes: straight lines found by votes, then measured across."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array
from ulvar.frames import Frame, MaskBit, mark

# Pixels beside a line that are looked at.
_REACH = 24
# No trail's light is followed further to a side.
_WIDEST = 120
# Of a trail's light in all: chance lines up pixels of a few deviations in one frame of some dozens.
_LEAST_SNR = 8.0
# Of the frame's shorter side: some bright stars in a row are no trail.
_LEAST_LENGTH = 0.2


@dataclass(frozen=True)
class Trail:
    """A straight trail.

    Attributes
    ----------
    x0, y0, x1, y1 : float
        Its ends [px]; where it leaves the frame, the edge.
    width_px : float
        Full width at half of its ridge.
    level_adu : float
        Height of the ridge over the background.
    snr : float
        Of its light within the width, along its whole length.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    width_px: float
    level_adu: float
    snr: float

    @property
    def length_px(self) -> float:
        """Length within the frame."""
        return math.hypot(self.x1 - self.x0, self.y1 - self.y0)

    def distance(self, x: F64Array, y: F64Array) -> F64Array:
        """Return the distance of positions from the trail [px]; beyond its ends, from the nearer end."""
        length = max(self.length_px, 1e-9)
        ux, uy = (self.x1 - self.x0) / length, (self.y1 - self.y0) / length
        along = (x - self.x0) * ux + (y - self.y0) * uy
        across = np.abs((x - self.x0) * uy - (y - self.y0) * ux)
        beyond = np.maximum(np.maximum(-along, along - length), 0.0)
        return np.asarray(np.hypot(across, beyond))


def mask_trails(frame: Frame, trails: Sequence[Trail]) -> Frame:
    """Return a frame whose pixels under trails are masked as `MaskBit.TRAIL`; without trails the frame itself.

    A ridge's light reaches to about its full width at half maximum on either side of its middle.
    """
    if not trails:
        return frame
    mask = np.zeros(frame.data.shape, dtype=np.uint16) if frame.mask is None else frame.mask.copy()
    for trail in trails:
        mark(mask, under_trail(frame.data.shape, trail, max(trail.width_px, 1.5)), MaskBit.TRAIL)
    return replace(frame, mask=mask)


def under_trail(shape: tuple[int, int], trail: Trail, reach_px: float, *, beyond_px: float = 0.0) -> BoolArray:
    """Return which pixels lie within reach of a trail.

    Parameters
    ----------
    shape : (int, int)
        Height and width of the frame [px].
    trail : Trail
    reach_px : float
        To each side.
    beyond_px : float
        How far the ends are drawn out.
    """
    length = max(trail.length_px, 1e-9)
    ux, uy = (trail.x1 - trail.x0) / length, (trail.y1 - trail.y0) / length
    along = np.array([-beyond_px, length + beyond_px])
    # A strip with the trail's round ends, in sixteenths of a pixel; a filled pixel's middle lies within.
    fine = 4
    mask = np.zeros(shape, dtype=np.uint8)
    x, y = trail.x0 + along * ux, trail.y0 + along * uy
    side = np.array([[-uy, ux], [uy, -ux]]) * reach_px
    corners = [(x[0], y[0]) + side[0], (x[1], y[1]) + side[0], (x[1], y[1]) + side[1], (x[0], y[0]) + side[1]]
    cv2.fillConvexPoly(mask, np.rint(np.array(corners) * 2**fine).astype(np.int32), 1, shift=fine)
    for k in range(2):
        centre = round(x[k] * 2**fine), round(y[k] * 2**fine)
        cv2.circle(mask, centre, round(reach_px * 2**fine), 1, thickness=-1, shift=fine)
    return mask.view(bool)


def trail_reach(data: F32Array, trail: Trail, noise_adu: float) -> float:
    """Return how far a trail's light reaches to each side of its middle [px].

    Parameters
    ----------
    data : float32 array, shape (height, width)
        The exposure, sky and all; NaN is passed over.
    trail : Trail
    noise_adu : float
        Per pixel [ADU].

    Notes
    -----
    Medians along the trail tell its profile far below the noise of a pixel. It ends where that falls under a twentieth of
    the noise, or into its own.
    """
    length = trail.length_px
    widest = int(min(_WIDEST, max(_REACH, 10 * trail.width_px)))
    across = np.arange(-widest, widest + 1)
    t = np.linspace(0.0, length, int(min(max(length, 2), 4000)))
    ux, uy = (trail.x1 - trail.x0) / max(length, 1e-9), (trail.y1 - trail.y0) / max(length, 1e-9)
    x = trail.x0 + t[None, :] * ux - across[:, None] * uy
    y = trail.y0 + t[None, :] * uy + across[:, None] * ux
    strip = cv2.remap(data, x.astype(np.float32), y.astype(np.float32), cv2.INTER_NEAREST, borderValue=np.nan)
    known = np.isfinite(strip).sum(axis=1)
    seen = known > max(20, 0.1 * len(t))
    profile = np.full(len(across), np.nan)
    profile[seen] = np.nanmedian(strip[seen], axis=1)
    quarter = np.abs(across) > 0.75 * widest
    if not (seen & quarter).any():
        return trail.width_px
    profile -= np.nanmedian(profile[quarter])
    error = 1.25 * noise_adu / np.sqrt(np.maximum(known, 1))
    # Three rows together: one alone may dip by chance.
    smooth = np.array([np.nanmean(profile[max(0, k - 1) : k + 2]) if seen[k] else 0.0 for k in range(len(across))])
    dark = ~(smooth > np.maximum(0.05 * noise_adu, 2.5 * error / math.sqrt(3)))
    reach = 0
    for way in (1, -1):
        out = 0
        while out < widest and not dark[widest + way * out]:
            out += 1
        reach = max(reach, out)
    return max(float(reach) + 1.0, trail.width_px)


def find_trails(residual: F32Array, noise: F32Array, *, most: int = 3) -> list[Trail]:
    """Find straight trails.

    The picture is averaged to about a fifth of a megapixel. Its pixels over 2.2 deviations vote for the lines through
    them (Duda & Hart 1972, Comm. ACM 15, 11); a line with far more votes than chance gives it is measured across
    and along in the full picture, and must be continuous.

    Parameters
    ----------
    residual, noise : float32 array, shape (height, width)
        Background-subtracted picture and its noise per pixel [ADU]; NaN is passed over.
    most : int
        As many at most.

    Returns
    -------
    list of Trail
        The most certain first.
    """
    height, width = residual.shape
    if min(height, width) < 64:
        return []
    # Not less than the width of a trail: its light is to be collected.
    block = max(3, round(math.sqrt(height * width / 2e5)))
    rows, columns = height // block, width // block
    part = residual[: rows * block, : columns * block]
    small = cv2.resize(part, (columns, rows), interpolation=cv2.INTER_AREA)
    spread = cv2.resize(noise[: rows * block, : columns * block], (columns, rows), interpolation=cv2.INTER_NEAREST)
    height_sigma = np.nan_to_num(small * block / spread)
    over = height_sigma > 2.2
    _erase_blobs(over)
    if over.mean() > 0.06:
        # Where stars or nebulae are everywhere only the brightest pixels have a vote.
        over = height_sigma > float(np.percentile(height_sigma, 96))
        _erase_blobs(over)
    found: list[Trail] = []
    for _ in range(most):
        line = _best_line(over)
        if line is None:
            break
        angle, rho = line
        trail = _measured(residual, noise, angle, (rho + 0.5 * (math.cos(angle) + math.sin(angle))) * block - 0.5)
        if trail is None:
            break
        found.append(trail)
        ys, xs = np.nonzero(over)
        near = np.abs(xs * math.cos(angle) + ys * math.sin(angle) - rho) < 4 + 3 * trail.width_px / block
        over[ys[near], xs[near]] = False
    return sorted(found, key=lambda trail: -trail.snr)


def _erase_blobs(over: BoolArray) -> None:
    """Take compact patches, which are stars, out of the vote, in place; pieces of trails are long or tiny."""
    _count, labels, stats, _ = cv2.connectedComponentsWithStats(over.view(np.uint8), connectivity=8)
    wide, high, area = stats[:, cv2.CC_STAT_WIDTH], stats[:, cv2.CC_STAT_HEIGHT], stats[:, cv2.CC_STAT_AREA]
    compact = (area >= 4) & (np.maximum(wide, high) <= 12) & (area > 0.45 * wide * high)
    compact[0] = False
    over &= ~compact[labels]


def _best_line(over: BoolArray) -> tuple[float, float] | None:
    """Return (angle of the normal [rad], distance) of the line with most votes beyond chance, or None."""
    from ulvar.stars._kernels import line_votes, strongest_lines

    ys, xs = np.nonzero(over)
    if len(xs) < 40:
        return None
    rows, columns = over.shape
    diagonal = math.ceil(math.hypot(rows, columns)) + 1
    angles = np.arange(0, math.pi, 1.0 / diagonal)
    votes = np.zeros((len(angles), 2 * diagonal + 1), dtype=np.int32)
    line_votes(xs.astype(np.float64), ys.astype(np.float64), np.cos(angles), np.sin(angles), diagonal, votes)
    a, d = strongest_lines(votes, 25, 4000)
    lengths = _line_lengths(rows, columns, angles[a], (d - diagonal).astype(np.float64))
    expected = np.maximum(len(xs) / over.size * lengths, 1.0)
    surplus = np.where(lengths < 0.15 * min(rows, columns), 0, (votes[a, d] - expected) / np.sqrt(expected))
    # Chance gives 6 deviations to one of a million lines; stars in clumps give a little more.
    if not len(a) or surplus.max() < 9.0:
        return None
    best = int(np.argmax(surplus))
    return float(angles[a[best]]), float(d[best] - diagonal)


def _line_lengths(rows: int, columns: int, angles: F64Array, rho: F64Array) -> F64Array:
    """Length within the frame of lines given by the angle of their normal and their distance."""
    c, s = np.cos(angles), np.sin(angles)
    s, c = (np.where(np.abs(v) < 1e-9, 1e-9, v) for v in (s, c))
    # Along the line: position = rho (c, s) + t (-s, c); the span of t inside the frame.
    tx = np.array([rho * c / s, (rho * c - (columns - 1)) / s])
    ty = np.array([-rho * s / c, (rows - 1 - rho * s) / c])
    return np.asarray(
        np.maximum(np.minimum(tx.max(axis=0), ty.max(axis=0)) - np.maximum(tx.min(axis=0), ty.min(axis=0)), 0.0)
    )


def _measured(residual: F32Array, noise: F32Array, angle: float, rho: float) -> Trail | None:
    """Measure a line across and along; None when it is no continuous trail."""
    height, width = residual.shape
    noise_adu = float(np.median(noise[:: max(1, height // 64), :: max(1, width // 64)]))
    # The votes tell the line to a few pixels; its own light tells where it runs.
    for last in (False, True):
        cut = _cut_along(residual, angle, rho)
        if cut is None:
            return None
        pieces, start, piece = cut
        told = _across(pieces)
        if told is None:
            return None
        profile = told
        top = int(np.argmax(cv2.GaussianBlur(profile[None, :], (5, 1), 1.0)[0][8:-8])) + 8
        level = float(profile[top])
        error = 1.25 * noise_adu / math.sqrt(piece)
        near = np.nan_to_num(pieces[max(0, top - 2) : top + 3])
        lit = near.mean(axis=0) > max(0.4 * level, 1.5 * error / math.sqrt(len(near)) * 2)
        inside = np.flatnonzero(lit)
        count = pieces.shape[1]
        if level < 0.15 * noise_adu or len(inside) < max(4, 0.25 * count):
            return None
        if last or len(inside) < 6:
            break
        angle, rho = _straightened(pieces, inside, top, start, piece, angle, rho)
    first, final = int(inside[0]), int(inside[-1])
    if len(inside) < 0.7 * (final - first + 1):
        return None
    left, right = _half_edge(profile, top, -1), _half_edge(profile, top, 1)
    broad = right - left
    # A bright column or row of the sensor is one pixel wide and runs along an axis; a glow at the edge of the frame has
    # no far side.
    c, s = math.cos(angle), math.sin(angle)
    if not (_falls(pieces, profile, top, -1) and _falls(pieces, profile, top, 1)):
        return None
    if broad > _REACH or (broad < 1.6 and min(abs(c), abs(s)) < 0.004):
        return None
    ridge = rho - _REACH + (left + right) / 2
    t0, t1 = start + first * piece, start + (final + 1) * piece
    snr = level * math.sqrt((t1 - t0) * broad) / noise_adu
    if snr < _LEAST_SNR or t1 - t0 < _LEAST_LENGTH * min(height, width):
        return None
    return Trail(ridge * c - t0 * s, ridge * s + t0 * c, ridge * c - t1 * s, ridge * s + t1 * c, broad, level, snr)


def _cut_along(residual: F32Array, angle: float, rho: float) -> tuple[F64Array, float, int] | None:
    """Return medians of pieces along a line, shape (2 reach + 1, pieces), where they start, and a piece's length [px].

    Stars on the line must not make a trail: medians pass them over. NaN beyond the frame.
    """
    height, width = residual.shape
    c, s = math.cos(angle), math.sin(angle)
    ends = _ends(width, height, c, s, rho)
    if ends is None or ends[1] - ends[0] < 60:
        return None
    steps = int(ends[1] - ends[0])
    t = ends[0] + np.arange(steps)
    across = np.arange(-_REACH, _REACH + 1)
    x = (rho + across[:, None]) * c - t[None, :] * s
    y = (rho + across[:, None]) * s + t[None, :] * c
    # Where pixels are hidden there is nothing, as beside the trail; of what lies beyond the frame nobody knows.
    strip = np.nan_to_num(
        cv2.remap(residual, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR, borderValue=0.0)
    ).astype(np.float64)
    strip[(x < 0) | (y < 0) | (x > width - 1) | (y > height - 1)] = np.nan
    piece = max(16, steps // 60)
    count = steps // piece
    return np.median(strip[:, : count * piece].reshape(len(across), count, piece), axis=2), float(ends[0]), piece


def _across(pieces: F64Array) -> F64Array | None:
    """Return the profile across a line over its surroundings; None when they are not in the frame.

    Beyond the frame it is level with the surroundings.
    """
    known = np.isfinite(pieces)
    enough = known.sum(axis=1) >= 0.25 * pieces.shape[1]
    profile = np.full(len(pieces), np.nan)
    profile[enough] = np.nanmedian(pieces[enough], axis=1)
    beside = np.r_[profile[:8], profile[-8:]]
    if np.isfinite(beside).sum() < 6:
        return None
    return np.nan_to_num(profile - np.nanmedian(beside))


def _falls(pieces: F64Array, profile: F64Array, top: int, step: int) -> bool:
    """Whether the light falls to half of its ridge within the frame, going one way."""
    seen = np.isfinite(pieces).mean(axis=1) >= 0.25
    i = top
    while 0 <= i < len(profile):
        if not seen[i]:
            return False
        if profile[i] <= profile[top] / 2:
            return True
        i += step
    return False


def _straightened(
    pieces: F64Array, inside: np.ndarray, top: int, start: float, piece: int, angle: float, rho: float
) -> tuple[float, float]:
    """Return angle and distance of the line through the ridge of each piece."""
    window = slice(max(0, top - 6), top + 7)
    part = np.maximum(np.nan_to_num(pieces[window][:, inside]), 0.0)
    offset = np.arange(-_REACH, _REACH + 1)[window]
    weight = part.sum(axis=0)
    middle = (part * offset[:, None]).sum(axis=0) / np.maximum(weight, 1e-9)
    along = start + (inside + 0.5) * piece
    slope, at_zero = np.polyfit(along, middle, 1, w=np.sqrt(np.maximum(weight, 1e-9)))
    # The line (rho + a + b t) n + t u, with u across n, has its normal turned by -b.
    turned = angle - math.atan(slope)
    return turned, (rho + at_zero) * math.cos(math.atan(slope))


def _ends(width: int, height: int, c: float, s: float, rho: float) -> tuple[float, float] | None:
    low, high = -math.inf, math.inf
    for start, slope, size in ((rho * c, -s, width - 1), (rho * s, c, height - 1)):
        if abs(slope) < 1e-9:
            if not 0 <= start <= size:
                return None
            continue
        a, b = (0 - start) / slope, (size - start) / slope
        low, high = max(low, min(a, b)), min(high, max(a, b))
    return (low, high) if high > low else None


def _half_edge(profile: F64Array, top: int, step: int) -> float:
    """Place where the profile falls to half of its ridge, going one way."""
    half = profile[top] / 2
    i = top
    while 0 < i + step < len(profile) - 1 and profile[i] > half:
        i += step
    inner, outer = profile[i - step], profile[i]
    return i - step * float((half - outer) / (inner - outer)) if inner > outer else float(i)
