"""Looking patterns of an exposure's stars up in an index, and weighing what is found against accident."""

from __future__ import annotations

import math

import numba
import numpy as np

from ulvar.astrometry._kernels import axes_at, gather, project

# Of an exposure's stars so many are expected in no catalogue: false, moving, too faint, too red (Lang et al. 2010, section 2.3).
_DISTRACTORS = 0.25
# A hypothesis is dropped when its odds have fallen so low.
_HOPELESS = -35.0
# A place is known to so much of its distance from the pattern, whatever the pattern tells: bent fields.
_BENT = 0.002


@numba.njit(nogil=True, cache=True, error_model="numpy")
def log_odds(x, y, spread, skipped, ref_x, ref_y, refs, area, taken, partner):
    """Weigh stars that are where the catalogue has them against stars anywhere (Lang et al. 2010, section 2.3).

    Stars come the brightest first, each with the `spread` [px] that its place is expected within; `skipped` are those that
    the hypothesis was made from. A star of the catalogue answers for one star. Returns the highest sum of logarithms on the way;
    `partner` tells each star's star of the catalogue, -1 for none. `taken` and `partner` are written.
    """
    for k in range(refs):
        taken[k] = False
    total, best = 0.0, 0.0
    for i in range(x.size):
        partner[i] = -1
    for i in range(x.size):
        if skipped[i]:
            continue
        nearest, at = 1e30, -1
        for k in range(refs):
            away = (x[i] - ref_x[k]) ** 2 + (y[i] - ref_y[k]) ** 2
            if away < nearest and not taken[k]:
                nearest, at = away, k
        variance = spread[i] ** 2
        odds = _DISTRACTORS
        if nearest < 25.0 * variance:
            odds += (1.0 - _DISTRACTORS) / refs * area / (2 * math.pi * variance) * math.exp(-0.5 * nearest / variance)
        if odds > 1.0:
            taken[at] = True
            partner[i] = at
        total += math.log(odds)
        best = max(best, total)
        if total < _HOPELESS:
            break
    return best


@numba.njit(nogil=True, cache=True, error_model="numpy")
def _placed(z, four, vec, mirrored, place, toward, east, north):
    """Fit a similarity from four stars to the plane that touches the sky at the exposure's middle.

    Writes scale and turn as a complex number into `place[0:2]`, and the middle into `toward`. Returns whether it converged.
    """
    for k in range(3):
        toward[k] = vec[four[0], k] + vec[four[1], k]
    for _ in range(4):
        length = math.sqrt(toward[0] ** 2 + toward[1] ** 2 + toward[2] ** 2)
        if not length > 0:
            return False
        for k in range(3):
            toward[k] /= length
        axes_at(toward, east, north)
        sz, sw = 0j, 0j
        for k in range(4):
            px, py = project(vec[four[k]], east, north, toward)
            if not (px == px):
                return False
            sz += z[k]
            sw += complex(px, py)
        sz, sw = sz / 4, sw / 4
        top, bottom = 0j, 0.0
        for k in range(4):
            px, py = project(vec[four[k]], east, north, toward)
            dz = z[k] - sz
            top += (complex(px, py) - sw) * dz.conjugate()
            bottom += dz.real**2 + dz.imag**2
        a = top / bottom
        middle = sw - a * sz
        place[0], place[1] = a.real, a.imag
        away = math.hypot(middle.real, middle.imag)
        for k in range(3):
            toward[k] += middle.real * east[k] + middle.imag * north[k]
        if away < 1e-9:
            break
        if away > 3.0:
            return False
    length = math.sqrt(toward[0] ** 2 + toward[1] ** 2 + toward[2] ** 2)
    for k in range(3):
        toward[k] /= length
    axes_at(toward, east, north)
    return True


@numba.njit(nogil=True, cache=True, error_model="numpy")
def look_up(
    x, y, newest, first, last, tested, width, height, reach, slack, pixel_error,
    scale_low, scale_high, least, most, toward_hint, hint_cosine,
    vec, stars, codes, lengths, starts, bins, band_sizes, band_zone_at, band_zones, band_row_at, band_star, band_right,
    wanted_odds, least_agreeing, results,
):  # fmt: skip
    """Look up all patterns of a star and earlier ones, of which `first` to `last` is one of the outermost or, with the star inside, the other.

    Parameters
    ----------
    x, y : float64 array
        Stars about the exposure's middle [px], the brightest first.
    newest, first, last : int
        Patterns hold the star `newest`, and stars before it; of pairs of outermost stars the later one is in ``first <= i < last``.
    tested : int
        So many of the stars are weighed.
    width, height, reach : float
        Of the exposure, and half its diagonal [px].
    slack, pixel_error : float
        A code may be off by `slack`, and by what an error of a place [px] makes.
    scale_low, scale_high : float
        [rad / px]
    least, most : float
        Of the patterns' lengths [rad].
    toward_hint, hint_cosine : float64 array of shape (3,), float
        The exposure's middle lies within a circle about it; -2 for anywhere.
    wanted_odds, least_agreeing : float, int
        Of a hypothesis: its log odds, and stars that agree beside the pattern.
    results : float64 array, shape (n, 8)
        Written: log odds, mirrored, scale and turn as a complex number [rad / px], the middle as a vector, the pattern's spread [px].

    Returns
    -------
    int
        How many hypotheses came above the odds.
    """
    z = np.empty(4, dtype=np.complex128)
    pattern, ordered = np.empty(4, dtype=np.int64), np.empty(4, dtype=np.int64)
    four = np.empty(4, dtype=np.int64)
    place, toward, east, north = np.empty(2), np.empty(3), np.empty(3), np.empty(3)
    rows = np.empty(1200, dtype=np.int64)
    ref_x, ref_y, taken = np.empty(1200), np.empty(1200), np.empty(1200, dtype=np.bool_)
    spread, partner = np.empty(tested), np.empty(tested, dtype=np.int64)
    skipped = np.empty(tested, dtype=np.bool_)
    area = width * height
    found = 0
    s = newest
    for i in range(first, last):
        # The outermost stars are i and the newest, or i and one before it with the newest inside.
        for j in range(-1, i):
            b = s if j < 0 else j
            apart = math.hypot(x[i] - x[b], y[i] - y[b])
            if apart < 12.0 or apart * scale_high < least or apart * scale_low > most:
                continue
            mx, my, inside = 0.5 * (x[i] + x[b]), 0.5 * (y[i] + y[b]), 0.25 * apart * apart
            if j >= 0 and (x[s] - mx) ** 2 + (y[s] - my) ** 2 > inside:
                continue
            allowed = slack + pixel_error / apart
            base = complex(x[b] - x[i], y[b] - y[i])
            for c in range(s):
                if c in (i, b) or (x[c] - mx) ** 2 + (y[c] - my) ** 2 > inside * (1 + 2 * allowed):
                    continue
                for other in range(c if j < 0 else 1):
                    d = other if j < 0 else s
                    if d in (i, b) or (x[d] - mx) ** 2 + (y[d] - my) ** 2 > inside * (1 + 2 * allowed):
                        continue
                    pattern[0], pattern[1], pattern[2], pattern[3] = i, b, c, d
                    c0 = complex(x[c] - x[i], y[c] - y[i]) / base
                    d0 = complex(x[d] - x[i], y[d] - y[i]) / base
                    for form in range(8):
                        mirrored = form & 1
                        ci, di = c0, d0
                        ordered[0], ordered[1], ordered[2], ordered[3] = pattern[0], pattern[1], pattern[2], pattern[3]
                        if form & 2:
                            ci, di = 1.0 - ci, 1.0 - di
                            ordered[0], ordered[1] = pattern[1], pattern[0]
                        if form & 4:
                            ci, di = di, ci
                            ordered[2], ordered[3] = pattern[3], pattern[2]
                        if mirrored:
                            ci, di = ci.conjugate(), di.conjugate()
                        # Near the line between two orders either may be in the index.
                        if ci.real + di.real > 1.0 + 2 * allowed or ci.real > di.real + 2 * allowed:
                            continue
                        cu0 = max(0, int((ci.real - allowed) * bins))
                        cu1 = min(bins - 1, int((ci.real + allowed) * bins))
                        cv0 = max(0, int((ci.imag + 0.5 - allowed) * bins))
                        cv1 = min(bins - 1, int((ci.imag + 0.5 + allowed) * bins))
                        du0 = max(0, int((di.real - allowed) * bins))
                        du1 = min(bins - 1, int((di.real + allowed) * bins))
                        dv0 = max(0, int((di.imag + 0.5 - allowed) * bins))
                        dv1 = min(bins - 1, int((di.imag + 0.5 + allowed) * bins))
                        for cu in range(cu0, cu1 + 1):
                            for cv in range(cv0, cv1 + 1):
                                for du in range(du0, du1 + 1):
                                    cell = ((cu * bins + cv) * bins + du) * bins
                                    # Bins of the last number lie side by side.
                                    for q in range(starts[cell + dv0], starts[cell + dv1 + 1]):
                                        scale = lengths[q] / apart
                                        if scale < 0.97 * scale_low or scale > 1.03 * scale_high:
                                            continue
                                        if (
                                            abs(codes[q, 0] / 65535.0 - ci.real) > allowed
                                            or abs(codes[q, 1] / 65535.0 - 0.5 - ci.imag) > allowed
                                            or abs(codes[q, 2] / 65535.0 - di.real) > allowed
                                            or abs(codes[q, 3] / 65535.0 - 0.5 - di.imag) > allowed
                                        ):
                                            continue
                                        if hint_cosine > -1.5:
                                            first_star = stars[q, 0]
                                            near = (
                                                vec[first_star, 0] * toward_hint[0] + vec[first_star, 1] * toward_hint[1]
                                                + vec[first_star, 2] * toward_hint[2]
                                            )  # fmt: skip
                                            # The star lies at most half a diagonal from the middle.
                                            if (
                                                math.acos(min(1.0, max(-1.0, near)))
                                                > math.acos(hint_cosine) + 1.1 * scale * reach
                                            ):
                                                continue
                                        for k in range(4):
                                            four[k] = stars[q, k]
                                            p = ordered[k]
                                            z[k] = complex(x[p], -y[p] if mirrored else y[p])
                                        if not _placed(z, four, vec, mirrored, place, toward, east, north):
                                            continue
                                        scale = math.hypot(place[0], place[1])
                                        if scale < 0.98 * scale_low or scale > 1.02 * scale_high:
                                            continue
                                        if hint_cosine > -1.5:
                                            near = (
                                                toward[0] * toward_hint[0]
                                                + toward[1] * toward_hint[1]
                                                + toward[2] * toward_hint[2]
                                            )
                                            if near < hint_cosine:
                                                continue
                                        radius = math.atan(reach * scale)
                                        band = 0
                                        while band < band_sizes.size - 1 and band_sizes[band] < radius / 3.2:
                                            band += 1
                                        zone_at, row_at = band_zone_at[band], band_row_at[band]
                                        count = gather(
                                            toward, radius, band_sizes[band], band_zones[zone_at : band_zone_at[band + 1]],
                                            band_right[row_at : band_row_at[band + 1]], band_star[row_at : band_row_at[band + 1]],
                                            vec, rows,
                                        )  # fmt: skip
                                        a = complex(place[0], place[1])
                                        refs = 0
                                        for k in range(count):
                                            px, py = project(vec[band_star[row_at + rows[k]]], east, north, toward)
                                            w = complex(px, py) / a
                                            rx, ry = w.real, -w.imag if mirrored else w.imag
                                            if abs(rx) <= 0.5 * width and abs(ry) <= 0.5 * height:
                                                ref_x[refs], ref_y[refs] = rx, ry
                                                refs += 1
                                        if refs < 6:
                                            continue
                                        qx = qy = size = 0.0
                                        for k in range(4):
                                            qx += 0.25 * x[ordered[k]]
                                            qy += 0.25 * y[ordered[k]]
                                        for k in range(4):
                                            size += 0.25 * ((x[ordered[k]] - qx) ** 2 + (y[ordered[k]] - qy) ** 2)
                                        for k in range(tested):
                                            away = (x[k] - qx) ** 2 + (y[k] - qy) ** 2
                                            spread[k] = math.sqrt(pixel_error**2 * (1 + away / size) + _BENT**2 * away)
                                            skipped[k] = (
                                                k == ordered[0] or k == ordered[1] or k == ordered[2] or k == ordered[3]
                                            )
                                        odds = log_odds(
                                            x[:tested],
                                            y[:tested],
                                            spread,
                                            skipped,
                                            ref_x,
                                            ref_y,
                                            refs,
                                            area,
                                            taken,
                                            partner,
                                        )
                                        if odds < wanted_odds:
                                            continue
                                        # Where few stars of the catalogue are in view, two by accident weigh as much as many.
                                        agreeing = 0
                                        for k in range(tested):
                                            agreeing += 1 if partner[k] >= 0 else 0
                                        if agreeing < least_agreeing:
                                            continue
                                        results[found, 0], results[found, 1] = odds, mirrored
                                        results[found, 2], results[found, 3] = place[0], place[1]
                                        results[found, 4], results[found, 5], results[found, 6] = (
                                            toward[0],
                                            toward[1],
                                            toward[2],
                                        )
                                        results[found, 7] = math.sqrt(size)
                                        found += 1
                                        if found == results.shape[0]:
                                            return found
    return found
