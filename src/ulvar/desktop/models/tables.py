"""The table of exposures as a file."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from ulvar.desktop.models.model import Model
from ulvar.engine import write_text
from ulvar.stars import QUALITIES

# What a file dialog offers for a table.
TABLE_KINDS = "CSV (*.csv);;VOTable (*.vot);;FITS table (*.fits);;Parquet (*.parquet)"


def save_exposure_table(model: Model, path: Path) -> int:
    """Write every scored exposure with all its qualities as CSV; returns how many.

    Raises
    ------
    OSError
        If it cannot be written.
    """
    rows, out = model.looking.quality(), model.left_out()
    ruled = model.looking.stack_plan()[1]
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["file", "time_utc_mid", "filter", "exposure_s", *QUALITIES, "kept", "reason"])
    count = 0
    for facts in model.lights():
        row = rows.get(facts.path)
        if row is None:
            continue
        why = out.get(facts.path) or ruled.get(facts.path, "")
        mid = facts.mid_utc.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] if facts.mid_utc else ""
        values = ["" if (v := row.get(key)) is None else f"{v:.6g}" for key in QUALITIES]
        writer.writerow([facts.name, mid, facts.filter, facts.exposure_s, *values, "no" if why else "yes", why])
        count += 1
    write_text(path, text.getvalue())
    return count
