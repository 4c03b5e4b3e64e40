"""Light of a limb-darkened star behind a dark disc, and behind another star."""

from __future__ import annotations

import math

import numba
import numpy as np

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(40)


@numba.njit(nogil=True, cache=True, inline="always")
def _inner(r, u1, u2):
    """Light of the star within the radius r, over pi."""
    r2 = r * r
    flat, mu1, mu2 = 1.0 - u1 - u2, u1 + 2.0 * u2, u2
    rest = max(0.0, 1.0 - r2)
    return flat * r2 + mu1 * (2.0 / 3.0) * (1.0 - rest * math.sqrt(rest)) - mu2 * (r2 - 0.5 * r2 * r2)


@numba.njit(nogil=True, cache=True)
def transit_light(distance, ratio, u1, u2, out):
    """Share of a star's light beside a dark disc of `ratio` times its radius, whose centre is `distance` radii away.

    The light behind the disc is the integral over the radius of brightness times the arc that the disc covers (Mandel & Agol 2002, ApJ
    580, L171, eq. 2, of quadratic limb darkening), by Gauss-Legendre nodes in the angle that takes the roots off both ends.
    """
    whole = 1.0 - u1 / 3.0 - u2 / 6.0
    for i in range(distance.size):
        z = abs(distance[i])
        if not z < 1.0 + ratio:
            out[i] = 1.0 if z == z else np.nan
            continue
        begin, end = abs(z - ratio), min(1.0, z + ratio)
        hidden = _inner(min(1.0, ratio - z), u1, u2) if ratio > z else 0.0
        if begin < end:
            half, middle = 0.5 * (end - begin), 0.5 * (end + begin)
            total = 0.0
            for k in range(_NODES.size):
                angle = 0.5 * math.pi * (_NODES[k] + 1.0)
                r = middle - half * math.cos(angle)
                mu = math.sqrt(max(0.0, 1.0 - r * r))
                fall = 1.0 - mu
                bright = 1.0 - u1 * fall - u2 * fall * fall
                if z > 0.0 and r > 0.0:
                    c = (r * r + z * z - ratio * ratio) / (2.0 * r * z)
                    arc = math.acos(min(1.0, max(-1.0, c)))
                else:
                    arc = math.pi if r < ratio else 0.0
                total += _WEIGHTS[k] * bright * 2.0 * r * arc * math.sin(angle)
            hidden += total * half * 0.5
        out[i] = 1.0 - hidden / whole


@numba.njit(nogil=True, cache=True)
def disc_hidden(distance, radii, light, other, out):
    """Light of a pile of even discs of `radii` and brightnesses `light` behind a disc of radius `other` whose centre is `distance` away."""
    reach = radii.max() + other
    b2 = other * other
    for i in range(distance.size):
        d = distance[i]
        out[i] = 0.0 if d == d else np.nan
        if not d < reach:
            continue
        d = max(d, 1e-12)
        total = 0.0
        for k in range(radii.size):
            a = radii[k]
            if d >= a + other:
                continue
            if d <= abs(a - other):
                smaller = min(a, other)
                total += light[k] * math.pi * smaller * smaller
                continue
            a2 = a * a
            cos_a = min(1.0, max(-1.0, (d * d + a2 - b2) / (2.0 * d * a)))
            cos_b = min(1.0, max(-1.0, (d * d + b2 - a2) / (2.0 * d * other)))
            # Segments on either side of the common chord.
            total += light[k] * (
                a2 * (math.acos(cos_a) - cos_a * math.sqrt(1.0 - cos_a * cos_a))
                + b2 * (math.acos(cos_b) - cos_b * math.sqrt(1.0 - cos_b * cos_b))
            )
        out[i] = total
