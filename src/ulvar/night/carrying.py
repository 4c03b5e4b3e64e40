"""What comes to a night before its series are known: work done before there were any, stars listed in advance."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ulvar.astrometry import separation_deg
from ulvar.flows import Series, folded
from ulvar.night.rows import NightRows
from ulvar.night.state import SERIES_STATIONS

# Field of stars that were listed before any light was read; a field's name may follow.
WAITING = "~"

# Kinds with one product an exposure.
_OF_EXPOSURES = ("found", "score", "plate", "measured", "rows", "stack_frame")
# Kinds with one product a series, and what their file is called now.
_OF_SERIES = {"stack": "stack.fits", "deep": "deep.fits", "curve": "curve.csv", "plate_stack": ""}


def carry_over(rows: NightRows, products: Path, series: Sequence[Series]) -> None:
    """Give rows and files of a night of one working filter to its series; what no series claims stays where it is."""
    if series:
        main = _main(rows, series)
        for one in series:
            _exposures(rows, one)
        _whole(rows, products, series, main)
        _rest(rows, products, main)
    rows.set_meta("before_series", False)


def _main(rows: NightRows, series: Sequence[Series]) -> Series:
    """Return the series that was worked on: of the filter that was set, else the one most exposures were measured of."""
    wanted = rows.meta("settings", {}).get("combine", {}).get("filter", "")
    done = set(rows.products_of("measured")) or set(rows.products_of("score")) or set(rows.products_of("calibrated"))
    fits = [one for one in series if one.filter == wanted] if wanted else []
    return max(fits or series, key=lambda one: (len(done & set(one.files)), len(one.members)))


def _exposures(rows: NightRows, one: Series) -> None:
    marks = ",".join("?" * len(_OF_EXPOSURES))
    rows.store.write_many(
        f"UPDATE products SET series = ? WHERE source = ? AND kind IN ({marks})",
        [(one.key, path, *_OF_EXPOSURES) for path in one.files],
    )


def _whole(rows: NightRows, products: Path, series: Sequence[Series], main: Series) -> None:
    for kind, name in _OF_SERIES.items():
        for source, product in rows.products_of(kind, "").items():
            labels = {one.key: "-".join(v for v in (one.filter, *one.tags.values()) if v) for one in series}
            fits = [one for one in series if source in (labels[one.key], one.filter)]
            one = main if kind == "curve" else max(fits, key=lambda s: len(s.members), default=None)
            if one is None:
                continue
            output = _moved(Path(product.output), products, one, name) if name else product.output
            rows.store.write(
                "UPDATE OR REPLACE products SET source = ?, series = ?, output = ? WHERE kind = ? AND source = ?",
                (one.key, one.key, output, kind, source),
            )


def _moved(path: Path, products: Path, one: Series, name: str) -> str:
    target = products / one.key / f"{one.key}-{name}"
    if not path.exists() or target.exists():
        return str(path)
    target.parent.mkdir(parents=True, exist_ok=True)
    path.replace(target)
    return str(target)


def _rest(rows: NightRows, products: Path, main: Series) -> None:
    _moved(products / "series.csv", products, main, "series.csv")
    marks = ",".join("?" * len(SERIES_STATIONS))
    rows.store.write(f"UPDATE findings SET series = ? WHERE station IN ({marks})", (main.key, *SERIES_STATIONS))
    rows.store.write("UPDATE stars SET field = ? WHERE field = ?", (main.field.key, WAITING))
    ran = rows.meta("ran", {})
    rows.set_meta("ran", {(f"{k}@{main.key}" if k in SERIES_STATIONS else k): entry for k, entry in ran.items()})
    rows.set_meta("series", main.key)


def adopt_stars(rows: NightRows, series: Sequence[Series]) -> None:
    """Give stars that wait to the field of their name, else to the one they lie nearest to, else to the largest."""
    waiting = [field for (field,) in rows.store.rows("SELECT DISTINCT field FROM stars WHERE field LIKE '~%'")]
    fields = {one.field.key: one.field for one in sorted(series, key=lambda s: -len(s.members))}
    for waits in waiting if fields else ():
        stars = rows.stars_of(waits)
        name = folded(waits[len(WAITING) :])
        named = [f for f in fields.values() if name and name in (folded(f.name), *f.objects)]
        seen = [(s.ra, s.dec) for s in stars if s.ra is not None and s.dec is not None]
        placed = [f for f in fields.values() if f.ra_deg is not None and f.dec_deg is not None]
        if not named and seen and placed:
            middle = np.median(np.array(seen, dtype=np.float64), axis=0)
            away = [float(separation_deg(middle[0], middle[1], f.ra_deg, f.dec_deg)) for f in placed]  # type: ignore[arg-type]
            named = [placed[int(np.argmin(away))]]
        target = named[0] if named else next(iter(fields.values()))
        rows.set_stars_of(target.key, stars)
        rows.set_stars_of(waits, [])
