"""Numbers of tables that people write themselves, by the names of their columns."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ulvar.astrometry import CatalogueError, read_rows
from ulvar.engine import F64Array


def read_columns(path: Path, wanted: Sequence[str], perhaps: Sequence[str] = ()) -> dict[str, F64Array]:
    """Read numbers of a table by the names of its columns.

    Parameters
    ----------
    path : Path
    wanted : sequence of str
        Columns that must be there, with a number in each row.
    perhaps : sequence of str
        Columns that may be missing; NaN where they have no number.

    Raises
    ------
    ValueError
        If it cannot be read, has no row, or lacks a column or a number; the message names file and line.
    """
    try:
        names, rows = read_rows(path)
        table = list(rows)
    except CatalogueError as error:
        raise ValueError(str(error)) from None
    missing = [name for name in wanted if name not in names]
    if missing:
        raise ValueError(f"{path}: it lacks {', '.join(missing)}; it has {', '.join(names)}")
    if not table:
        raise ValueError(f"{path}: it has no row")
    found = {}
    for name in (*wanted, *perhaps):
        values = []
        for number, row in enumerate(table, 2):
            text = (row.get(name) or "").strip()
            try:
                values.append(float(text) if text else math.nan)
            except ValueError:
                raise ValueError(f"{path}, line {number}: '{text}' is no {name}") from None
        found[name] = np.array(values)
    if not all(np.isfinite(found[name]).all() for name in wanted):
        raise ValueError(f"{path}: a row has no {' or '.join(wanted)}")
    return found
