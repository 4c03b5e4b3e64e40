"""How star finding does on made-up fields of every kind: completeness, false stars, centroids, widths.

python bench/fields.py
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "src")]

import numpy as np
from bench.made_fields import completeness, draw_cosmic_rays, draw_trail, false_count, make_field
from scipy.spatial import cKDTree

from ulvar.stars import find_stars

# words, and how the field is made; 1.5 megapixels each.
FIELDS = (
    ("sparse, 1 star in 7,500 px", {"stars": 200}),
    ("1 star in 500 px", {"stars": 3000}),
    ("crowded, 1 star in 150 px", {"stars": 10_000}),
    ("very crowded, 1 star in 60 px", {"stars": 25_000}),
    ("FWHM 2 px, 1 star in 500 px", {"stars": 3000, "fwhm_px": 2.0}),
    ("FWHM 6 px, 1 star in 500 px", {"stars": 3000, "fwhm_px": 6.0}),
    ("trailed by 3.9 px", {"stars": 1000, "trail_px": (3.6, 1.5)}),
    ("rings of 10 px", {"stars": 150, "fwhm_px": 2.5, "ring_px": (5.0, 2.2), "faintest": 3.2}),
    ("rings of 16 px", {"stars": 250, "fwhm_px": 2.5, "ring_px": (8.0, 3.6), "faintest": 3.2}),
    ("rings of 28 px", {"stars": 150, "fwhm_px": 2.5, "ring_px": (14.0, 6.3), "faintest": 3.5}),
    ("with 150 cosmic rays", {"stars": 800}),
    ("with a trail", {"stars": 800}),
)


def main() -> int:
    """Print a table."""
    print("| field | over SNR 7 found | over SNR 7 among its neighbours | false | FWHM | centroid, median off | s |")
    print("|---|---|---|---|---|---|---|")
    for words, made in FIELDS:
        field = make_field(np.random.default_rng(5), width=1500, height=1000, **made)
        if "cosmic" in words:
            draw_cosmic_rays(np.random.default_rng(6), field.image, 150)
        if "a trail" in words:
            draw_trail(field.image, (-30, 20), (1530, 830), width_px=3.5, level=60)
        ring = made.get("ring_px")
        began = time.perf_counter()
        found = find_stars(field.image, gain_e_per_adu=1.0)
        seconds = time.perf_counter() - began
        within, beyond = (3.0, ring[0]) if ring else (1.5, 3.0)
        complete = completeness(field, found.stars.x, found.stars.y, within_px=within)
        plain = not (ring or made.get("trail_px"))
        joint = f"{completeness(field, found.stars.x, found.stars.y, joint=True):.1%}" if plain else "–"
        false = false_count(field, found.stars.x, found.stars.y, beyond_px=beyond)
        bright = field.snr > 50
        off, _ = cKDTree(np.column_stack([found.stars.x, found.stars.y])).query(np.column_stack([field.x, field.y]))
        print(
            f"| {words} | {complete:.1%} | {joint} | {false} of {len(found.stars)} | {found.fwhm_px:.2f} px | "
            f"{np.median(off[bright]):.3f} px | {seconds:.1f} |"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main())
