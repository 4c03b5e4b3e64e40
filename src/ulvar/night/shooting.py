"""The shooting list as a table and as a page to print."""

from __future__ import annotations

import csv
import html
import io
from collections.abc import Sequence
from pathlib import Path

from ulvar.calibration import Shot
from ulvar.engine import true_minus, write_text

COLUMNS = (
    "kind", "count", "exposure_s", "filter", "gain", "offset", "temperature_c", "binning", "readout_mode", "camera",
    "lights_waiting", "minutes", "why",
)  # fmt: skip


def _cells(shot: Shot) -> list[str]:
    def text(value: float | None) -> str:
        return "" if value is None else f"{value:g}"

    return [
        shot.kind.value, str(shot.count), text(shot.exposure_s), shot.filter, text(shot.gain), text(shot.offset),
        text(shot.temperature_c), str(shot.binning), shot.readout_mode, shot.camera, str(shot.lights),
        f"{shot.minutes:.1f}", shot.why,
    ]  # fmt: skip


def shooting_csv(shots: Sequence[Shot]) -> str:
    """Return the list as CSV with the columns `COLUMNS`; what is unknown or to be found is empty."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    writer.writerows(_cells(shot) for shot in shots)
    return out.getvalue()


def shooting_page(shots: Sequence[Shot], title: str) -> str:
    """Return the list as one HTML page with a box to tick for each line, black on white, ready to print."""
    rows = []
    for shot in shots:
        exposure = "to be found" if shot.exposure_s is None else f"{shot.exposure_s:g} s"
        settings = [
            f"gain {shot.gain:g}" if shot.gain is not None else "",
            f"offset {shot.offset:g}" if shot.offset is not None else "",
            true_minus(f"{shot.temperature_c:g} °C") if shot.temperature_c is not None else "",
            f"binning {shot.binning}",
            shot.readout_mode,
        ]
        kind = f"{shot.kind.word} {shot.filter}".strip()
        cells = ["☐", str(shot.count), kind, exposure, ", ".join(s for s in settings if s), shot.camera, shot.why]
        rows.append("<tr>" + "".join(f"<td>{html.escape(c)}</td>" for c in cells) + "</tr>")
    minutes = sum(shot.minutes for shot in shots)
    head = "".join(f"<th>{h}</th>" for h in ("", "How many", "What", "Exposure", "Settings", "Camera", "Why"))
    return (
        "<!doctype html>\n<html lang='en'><head><meta charset='utf-8'>"
        f"<title>Shooting list, {html.escape(title)}</title><style>"
        "body{font:12pt sans-serif;margin:2cm;color:#000}table{border-collapse:collapse;width:100%}"
        "td,th{text-align:left;padding:6pt 8pt;border-bottom:1px solid #999;vertical-align:top}td:first-child{font-size:16pt}"
        f"</style></head><body><h1>Shooting list</h1><p>{html.escape(title)}. About {minutes:.0f} minutes to take.</p>"
        f"<table><tr>{head}</tr>\n" + "\n".join(rows) + "\n</table></body></html>\n"
    )


def write_shooting_list(path: Path, shots: Sequence[Shot], title: str, *, replace: bool = True) -> None:
    """Write the list: a page for ``.html``, else CSV; atomically.

    Raises
    ------
    OutputExists
        If the file exists and may not be replaced.
    """
    page = path.suffix.lower() in (".html", ".htm")
    write_text(path, shooting_page(shots, title) if page else shooting_csv(shots), replace=replace)
