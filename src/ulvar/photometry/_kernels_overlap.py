"""Exact areas common to a circle or an ellipse and a pixel."""

from __future__ import annotations

import math

import numba


@numba.njit(nogil=True, cache=True, inline="always")
def _half(t, r):
    """Integral of sqrt(r^2 - t^2) from 0 to t."""
    return 0.5 * (t * math.sqrt(max(0.0, r * r - t * t)) + r * r * math.asin(min(max(t / r, -1.0), 1.0)))


@numba.njit(nogil=True, cache=True, inline="always")
def across(u, r):
    """Of the disc of radius r: half the chord at a distance u from the centre, and the area between it and the axis through the centre."""
    chord = math.sqrt(max(0.0, r * r - u * u))
    return chord, _half(chord, r)


@numba.njit(nogil=True, cache=True, inline="always")
def aside(t, r):
    """Area of the disc of radius r under its upper rim from 0 to t > 0 along the axis."""
    return _half(min(t, r), r)


@numba.njit(nogil=True, cache=True)
def _quadrant(a, under_a, b, under_b, c, chord_c, under_c, d, chord_d, under_d, r2):
    """Area of the disc about the origin in the rectangle a < x < b, c < y < d of the first quadrant."""
    if a * a + c * c >= r2:
        return 0.0
    if b * b + d * d <= r2:
        return (b - a) * (d - c)
    # Left of `whole` the column is full, right of `empty` there is nothing of it.
    whole, under_whole = chord_d, under_d
    if chord_d <= a:
        whole, under_whole = a, under_a
    elif chord_d >= b:
        whole, under_whole = b, under_b
    empty, under_empty = chord_c, under_c
    if chord_c >= b:
        empty, under_empty = b, under_b
    return (whole - a) * (d - c) + under_empty - under_whole - c * (empty - whole)


@numba.njit(nogil=True, cache=True)
def rim_overlap(left, under_left, right, under_right, low, chord_low, under_low, high, chord_high, under_high, r):
    """Area common to the disc of radius r about the origin and a rectangle.

    Left, right, low and high are where its edges lie; the others are what `aside` and `across` say of their distances, which pixels of one
    row or column share.
    """
    # What lies on the other side of an axis is mirrored.
    if right <= 0.0:
        left, under_left, right, under_right = -right, under_right, -left, under_left
    if high <= 0.0:
        low, chord_low, under_low, high, chord_high, under_high = (
            -high,
            chord_high,
            under_high,
            -low,
            chord_low,
            under_low,
        )
    if left >= 0.0 and low >= 0.0:
        return _quadrant(
            left, under_left, right, under_right, low, chord_low, under_low, high, chord_high, under_high, r * r
        )
    quarter = 0.25 * math.pi * r * r
    near_x, under_x = (left, under_left) if left >= 0.0 else (0.0, 0.0)
    near_y, chord_y, under_y = (low, chord_low, under_low) if low >= 0.0 else (0.0, r, quarter)
    area = _quadrant(near_x, under_x, right, under_right, near_y, chord_y, under_y, high, chord_high, under_high, r * r)
    if left < 0.0:
        area += _quadrant(0.0, 0.0, -left, under_left, near_y, chord_y, under_y, high, chord_high, under_high, r * r)
    if low < 0.0:
        area += _quadrant(near_x, under_x, right, under_right, 0.0, r, quarter, -low, chord_low, under_low, r * r)
        if left < 0.0:
            area += _quadrant(0.0, 0.0, -left, under_left, 0.0, r, quarter, -low, chord_low, under_low, r * r)
    return area


@numba.njit(nogil=True, cache=True)
def pixel_overlap(dx, dy, r):
    """Area common to the disc of radius r about the origin and the unit pixel centred at (dx, dy)."""
    x, y = abs(dx), abs(dy)
    if (x + 0.5) * (x + 0.5) + (y + 0.5) * (y + 0.5) <= r * r:
        return 1.0
    nx, ny = max(0.0, x - 0.5), max(0.0, y - 0.5)
    if nx * nx + ny * ny >= r * r:
        return 0.0
    chord_low, under_low = across(abs(y - 0.5), r)
    chord_high, under_high = across(y + 0.5, r)
    return rim_overlap(
        x - 0.5, aside(abs(x - 0.5), r), x + 0.5, aside(x + 0.5, r),
        y - 0.5, chord_low, under_low, y + 0.5, chord_high, under_high, r,
    )  # fmt: skip


@numba.njit(nogil=True, cache=True)
def _slice(px, py, qx, qy):
    """Signed area of the sector of the unit disc between two directions."""
    return 0.5 * math.atan2(px * qy - py * qx, px * qx + py * qy)


@numba.njit(nogil=True, cache=True)
def _edge(px, py, qx, qy):
    """Signed area that the unit disc shares with the triangle of the origin and an edge."""
    dx, dy = qx - px, qy - py
    a, half_b, c = dx * dx + dy * dy, px * dx + py * dy, px * px + py * py - 1.0
    cut = half_b * half_b - a * c
    if cut <= 0.0 or a == 0.0:
        return _slice(px, py, qx, qy)
    root = math.sqrt(cut)
    first, last = (-half_b - root) / a, (-half_b + root) / a
    if last <= 0.0 or first >= 1.0:
        return _slice(px, py, qx, qy)
    first, last = max(first, 0.0), min(last, 1.0)
    ax, ay, bx, by = px + first * dx, py + first * dy, px + last * dx, py + last * dy
    area = 0.5 * (ax * by - ay * bx)
    if first > 0.0:
        area += _slice(px, py, ax, ay)
    if last < 1.0:
        area += _slice(bx, by, qx, qy)
    return area


@numba.njit(nogil=True, cache=True)
def ellipse_overlap(dx, dy, a, b, cosine, sine):
    """Area common to an ellipse about the origin and the unit pixel centred at (dx, dy).

    The half axis `a` points along (cosine, sine), `b` across. The ellipse is made the unit disc, the pixel a parallelogram.
    """
    if dx * dx + dy * dy >= (max(a, b) + 0.7072) ** 2:
        return 0.0
    ux, uy, vx, vy = cosine / a, -sine / b, sine / a, cosine / b
    cx, cy = dx * ux + dy * vx, dx * uy + dy * vy
    px, py = (ux + vx) / 2, (uy + vy) / 2
    qx, qy = (ux - vx) / 2, (uy - vy) / 2
    far = max(
        math.hypot(cx + px, cy + py), math.hypot(cx - px, cy - py), math.hypot(cx + qx, cy + qy), math.hypot(cx - qx, cy - qy)
    )  # fmt: skip
    if far <= 1.0:
        return 1.0
    area = (
        _edge(cx - px, cy - py, cx + qx, cy + qy) + _edge(cx + qx, cy + qy, cx + px, cy + py)
        + _edge(cx + px, cy + py, cx - qx, cy - qy) + _edge(cx - qx, cy - qy, cx - px, cy - py)
    )  # fmt: skip
    return min(max(area * a * b, 0.0), 1.0)
