"""Patterns of four stars: making them of a catalogue, band by band of angular size.

A pattern is told by the places of its two inner stars in the frame of its two outermost ones, the same whatever its place,
size and turn (Lang, Hogg, Mierle, Blanton & Roweis 2010, AJ 139, 1782, section 2.2). Here the outer stars lie at 0 and 1 of
the complex plane and inner ones in the circle over them; a mirror image has the complex conjugates.
"""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(nogil=True, cache=True, error_model="numpy")
def project(v, east, north, toward):
    """Gnomonic coordinates [rad] of a unit vector about a point; NaN on the far side."""
    down = v[0] * toward[0] + v[1] * toward[1] + v[2] * toward[2]
    if down <= 0.05:
        return math.nan, math.nan
    xi = (v[0] * east[0] + v[1] * east[1] + v[2] * east[2]) / down
    eta = (v[0] * north[0] + v[1] * north[1] + v[2] * north[2]) / down
    return xi, eta


@numba.njit(nogil=True, cache=True, error_model="numpy")
def axes_at(toward, east, north):
    """Write the unit vectors to the east and north at a point of the sky; at a pole east is that of right ascension 0."""
    flat = math.hypot(toward[0], toward[1])
    if flat < 1e-12:
        east[0], east[1], east[2] = 0.0, 1.0, 0.0
    else:
        east[0], east[1], east[2] = -toward[1] / flat, toward[0] / flat, 0.0
    north[0] = toward[1] * east[2] - toward[2] * east[1]
    north[1] = toward[2] * east[0] - toward[0] * east[2]
    north[2] = toward[0] * east[1] - toward[1] * east[0]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def gather(toward, radius, height, zone_start, ra, star, vec, out):
    """Write which rows of a band lie within a radius [rad] of a point; returns how many, at most as many as `out` takes.

    Rows are sorted by zone of declination (of a height [rad], counted from the south pole) and right ascension [rad, 0 to 2 pi).
    """
    zones = zone_start.size - 1
    dec0 = math.asin(min(1.0, max(-1.0, toward[2])))
    ra0 = math.atan2(toward[1], toward[0])
    least = math.cos(radius)
    first = max(0, int((dec0 - radius + 0.5 * math.pi) / height))
    last = min(zones - 1, int((dec0 + radius + 0.5 * math.pi) / height))
    # The widest a circle gets in right ascension (Smart 1977, Text-Book on Spherical Astronomy, 10).
    around = abs(dec0) + radius >= 0.5 * math.pi
    half = math.pi if around else math.asin(min(1.0, math.sin(radius) / math.cos(dec0)))
    count = 0
    for zone in range(first, last + 1):
        begin, end = zone_start[zone], zone_start[zone + 1]
        if begin == end:
            continue
        # A circle over right ascension 0 has two parts.
        for turn in range(-1, 2):
            low, high = ra0 - half + turn * 2 * math.pi, ra0 + half + turn * 2 * math.pi
            if around:
                if turn != 0:
                    continue
                low, high = -1.0, 7.0
            if high < 0.0 or low >= 2 * math.pi:
                continue
            row, beyond = begin, end
            while row < beyond:
                half_way = (row + beyond) // 2
                if ra[half_way] < low:
                    row = half_way + 1
                else:
                    beyond = half_way
            while row < end and ra[row] <= high:
                s = star[row]
                near = vec[s, 0] * toward[0] + vec[s, 1] * toward[1] + vec[s, 2] * toward[2]
                if near >= least:
                    if count == out.size:
                        return count
                    out[count] = row
                    count += 1
                row += 1
    return count


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _code_cell(cu, cv, du, dv, bins):
    """Return the bin of a code, of so many bins of each of its four numbers."""
    a = min(bins - 1, max(0, int(cu * bins)))
    b = min(bins - 1, max(0, int((cv + 0.5) * bins)))
    c = min(bins - 1, max(0, int(du * bins)))
    d = min(bins - 1, max(0, int((dv + 0.5) * bins)))
    return ((a * bins + b) * bins + c) * bins + d


@numba.njit(nogil=True, cache=True, error_model="numpy")
def coded(vec, four, code):
    """Write the code of four stars, the outermost first; exchanges stars so that the code is the one that is looked up.

    Returns the distance of the outermost stars [rad].
    """
    toward, east, north = np.empty(3), np.empty(3), np.empty(3)
    for k in range(3):
        toward[k] = vec[four[0], k] + vec[four[1], k]
    length = math.sqrt(toward[0] ** 2 + toward[1] ** 2 + toward[2] ** 2)
    for k in range(3):
        toward[k] /= length
    axes_at(toward, east, north)
    ax, ay = project(vec[four[0]], east, north, toward)
    bx, by = project(vec[four[1]], east, north, toward)
    base = complex(bx - ax, by - ay)
    cx, cy = project(vec[four[2]], east, north, toward)
    dx, dy = project(vec[four[3]], east, north, toward)
    c, d = complex(cx - ax, cy - ay) / base, complex(dx - ax, dy - ay) / base
    if c.real + d.real > 1.0:
        four[0], four[1] = four[1], four[0]
        c, d = 1.0 - c, 1.0 - d
    if c.real > d.real:
        four[2], four[3] = four[3], four[2]
        c, d = d, c
    code[0], code[1], code[2], code[3] = c.real, c.imag, d.real, d.imag
    chord = 0.0
    for k in range(3):
        chord += (vec[four[0], k] - vec[four[1], k]) ** 2
    return 2 * math.asin(min(1.0, 0.5 * math.sqrt(chord)))


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _add(vec, near, x, y, a, b, c, d, used, most_uses, four, code, found, stars, codes, lengths):
    """Take a pattern unless one of its stars serves in enough of the cell's; returns how many are found."""
    if used[a] >= most_uses or used[b] >= most_uses or used[c] >= most_uses or used[d] >= most_uses:
        return found
    four[0], four[1], four[2], four[3] = near[a], near[b], near[c], near[d]
    length = coded(vec, four, code)
    for k in range(4):
        # Seen from the middle of the pattern, not of the cell, an inner star may lie just outside the circle.
        if not (-0.02 <= code[k] + (0.5 if k % 2 else 0.0) <= 1.02):
            return found
    for k in range(4):
        stars[found, k], codes[found, k] = four[k], code[k]
    lengths[found] = length
    for k in (a, b, c, d):
        used[k] += 1
    return found + 1


@numba.njit(nogil=True, cache=True, error_model="numpy")
def patterns_of_cell(vec, near, x, y, half_width, half_height, size, wanted, most_uses, stars, codes, lengths):
    """Patterns whose outermost stars lie `size` to 2 `size` [rad] apart, their middle in the cell, of its brightest stars.

    `near` are stars, the brightest first, `x` and `y` their places on the plane that touches the sky in the middle of the cell.
    Star by star is added, so that what is found first is made of the brightest.
    """
    count = near.size
    used = np.zeros(count, dtype=np.int64)
    # Pairs of stars that may be the outermost ones.
    pairs = np.empty((count * (count - 1) // 2, 2), dtype=np.int64)
    four, code = np.empty(4, dtype=np.int64), np.empty(4)
    number = found = 0
    for m in range(count):
        before = number
        for i in range(m):
            apart = math.hypot(x[m] - x[i], y[m] - y[i])
            if not (size <= apart < 2 * size):
                continue
            mx, my = 0.5 * (x[m] + x[i]), 0.5 * (y[m] + y[i])
            if abs(mx) > half_width or abs(my) > half_height:
                continue
            pairs[number, 0], pairs[number, 1] = i, m
            number += 1
        for p in range(number):
            a, b = pairs[p, 0], pairs[p, 1]
            mx, my = 0.5 * (x[a] + x[b]), 0.5 * (y[a] + y[b])
            reach = 0.25 * ((x[a] - x[b]) ** 2 + (y[a] - y[b]) ** 2)
            if p >= before:
                # The new star is an outermost one: any two of those before it inside.
                for c in range(m):
                    if c == a or (x[c] - mx) ** 2 + (y[c] - my) ** 2 >= reach:
                        continue
                    for d in range(c):
                        if d == a or (x[d] - mx) ** 2 + (y[d] - my) ** 2 >= reach:
                            continue
                        found = _add(
                            vec, near, x, y, a, b, c, d, used, most_uses, four, code, found, stars, codes, lengths
                        )
                        if found == wanted:
                            return found
            elif (x[m] - mx) ** 2 + (y[m] - my) ** 2 < reach:
                for d in range(m):
                    if d in (a, b) or (x[d] - mx) ** 2 + (y[d] - my) ** 2 >= reach:
                        continue
                    found = _add(vec, near, x, y, a, b, m, d, used, most_uses, four, code, found, stars, codes, lengths)
                    if found == wanted:
                        return found
    return found


@numba.njit(nogil=True, cache=True, error_model="numpy")
def patterns_of_zone(zone, size, height, zone_start, ra, star, vec, wanted, most_uses, most_stars):
    """Patterns of all cells of a zone: stars int32 (n, 4), codes float32 (n, 4), lengths float32 [rad] (n,)."""
    zones = zone_start.size - 1
    middle = -0.5 * math.pi + (zone + 0.5) * height
    cells = max(1, int(round(2 * math.pi * max(math.cos(middle), 0.0) / height)))
    marked = np.zeros(cells, dtype=np.bool_)
    for other in range(max(0, zone - 1), min(zones, zone + 2)):
        for row in range(zone_start[other], zone_start[other + 1]):
            at = int(ra[row] / (2 * math.pi) * cells)
            for k in range(-1, 2):
                marked[(at + k) % cells] = True
    room = 1024
    stars, codes = np.empty((room, 4), dtype=np.int32), np.empty((room, 4), dtype=np.float32)
    lengths = np.empty(room, dtype=np.float32)
    own_stars, own_codes, own_lengths = np.empty((wanted, 4), dtype=np.int64), np.empty((wanted, 4)), np.empty(wanted)
    rows, ordered = np.empty(1000, dtype=np.int64), np.empty(1000, dtype=np.int64)
    toward, east, north = np.empty(3), np.empty(3), np.empty(3)
    count = 0
    for cell in range(cells):
        if not marked[cell]:
            continue
        right = (cell + 0.5) / cells * 2 * math.pi
        toward[0], toward[1] = math.cos(middle) * math.cos(right), math.cos(middle) * math.sin(right)
        toward[2] = math.sin(middle)
        axes_at(toward, east, north)
        found = gather(toward, 1.75 * size, height, zone_start, ra, star, vec, rows)
        if found < 4:
            continue
        # Stars are numbered by brightness: the brightest are the first.
        for k in range(found):
            number, at = np.int64(star[rows[k]]), k
            while at > 0 and ordered[at - 1] > number:
                ordered[at] = ordered[at - 1]
                at -= 1
            ordered[at] = number
        near = ordered[: min(found, most_stars)]
        x, y = np.empty(near.size), np.empty(near.size)
        for k in range(near.size):
            x[k], y[k] = project(vec[near[k]], east, north, toward)
        half_width = math.pi / cells * math.cos(middle)
        made = patterns_of_cell(
            vec, near, x, y, half_width, 0.5 * height, size, wanted, most_uses, own_stars, own_codes, own_lengths
        )
        if count + made > room:
            more = max(2 * room, count + made)
            wider, longer, further = (
                np.empty((more, 4), dtype=np.int32), np.empty((more, 4), dtype=np.float32),
                np.empty(more, dtype=np.float32),
            )  # fmt: skip
            # Value by value: slices that are copied take seconds to compile, for what would tell of shapes that differ.
            for k in range(count):
                for j in range(4):
                    wider[k, j], longer[k, j] = stars[k, j], codes[k, j]
                further[k] = lengths[k]
            stars, codes, lengths, room = wider, longer, further, more
        for k in range(made):
            for j in range(4):
                stars[count + k, j], codes[count + k, j] = own_stars[k, j], own_codes[k, j]
            lengths[count + k] = own_lengths[k]
        count += made
    return stars[:count], codes[:count], lengths[:count]


@numba.njit(nogil=True, cache=True, error_model="numpy")
def code_cells(codes, bins):
    """Return the bin of each code, int64 (n,)."""
    cells = np.empty(codes.shape[0], dtype=np.int64)
    for k in range(codes.shape[0]):
        cells[k] = _code_cell(codes[k, 0], codes[k, 1], codes[k, 2], codes[k, 3], bins)
    return cells
