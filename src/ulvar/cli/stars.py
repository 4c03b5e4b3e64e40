"""ulvar stars."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from ulvar.cli.common import (
    Facts,
    Json,
    Paths,
    Replace,
    default,
    fail_usage,
    finish,
    hinted,
    option,
    read_exposures,
    running,
)  # fmt: skip
from ulvar.engine import counted
from ulvar.flows import Outcome, find_all, write_stars
from ulvar.stars import DetectOptions


def stars(
    paths: Paths,
    table: Annotated[Path | None, typer.Option("--table", metavar="DIR", help="Write <stem>.stars.csv here.")] = None,
    threshold: Annotated[float, option("combine", "threshold")] = default("combine", "threshold"),
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Find stars and judge each exposure."""
    try:
        options = DetectOptions(threshold=threshold)
    except ValueError as error:
        fail_usage(str(error))
    exposures, failed, _ = read_exposures(paths, fact)
    with running(len(exposures)) as context:
        scored, unread = find_all(exposures, context, options=options)
        written: dict[str, Outcome] = {}
        if table is not None:
            outcomes = write_stars(scored, table, context, replace_existing=replace)
            written = dict(zip(outcomes, hinted(list(outcomes.values()))))
    by_path = {s.facts.path: s for s in scored}
    why = {f.file: f.reason for f in [*failed, *unread]}
    frames: list[dict[str, Any]] = []
    lines = []
    for path in [*(f.path for f in exposures), *(f.file for f in failed)]:
        one = by_path.get(path)
        if one is None:
            frames.append({"file": path, "ok": False, "reason": why[path]})
            lines.append(f"{Path(path).name}: {why[path]}")
            continue
        q = one.quality
        told_table = written.get(path)
        ok = told_table is None or told_table.ok
        frames.append(
            {
                "file": path, "ok": ok, "reason": "" if told_table is None else told_table.reason, "stars": q.stars,
                "fwhm_px": q.fwhm_px, "ellipticity": q.ellipticity, "sky_adu": q.sky_adu, "noise_adu": q.noise_adu,
                "score": q.score, "saturated": q.saturated, "trails": q.trails,
                "gradient_adu": q.gradient_adu, "expected_noise_adu": q.expected_noise_adu,
                "table": "" if told_table is None else told_table.output,
                "skipped": bool(told_table and told_table.skipped),
            }
        )  # fmt: skip
        lines.append(
            f"{Path(path).name}: {counted(q.stars, 'star')}, FWHM {q.fwhm_px:.2f} px, ellipticity {q.ellipticity:.2f}, "
            f"sky {q.sky_adu:.1f} ADU, noise {q.noise_adu:.2f} ADU, score {q.score:.2f}"
            + ("" if ok else f"; {told_table.reason if told_table else ''}")
        )
    finish(
        {"frames": frames},
        as_json=json,
        done=any(o["ok"] for o in frames),
        failed=not all(o["ok"] for o in frames),
        lines=lines,
    )
