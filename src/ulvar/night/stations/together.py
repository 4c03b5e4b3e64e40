"""What is made of more than one series, or of exposures that are still being taken: mosaics of fields, and running stacks."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from ulvar.engine import JobContext, StopToken, counted, silent
from ulvar.flows import Aligned, CalibrateTask, Progressed, Scored, Series, Watch, stack_exposures
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.combine import aligned_of
from ulvar.night.stations.lights import working_of
from ulvar.night.stations.pointing import stack_options
from ulvar.night.stations.selection import quality_rows, stack_candidates
from ulvar.night.stations.shared import StationResult, no_series, stored_number
from ulvar.night.working import one_at_a_time

# The folder is looked into every so many seconds.
_EVERY_S = 1.0


def mosaic_series(night: Night, series: Series) -> list[Series]:
    """Return the series of the night that a mosaic with a series would be made of: all fields of its filter."""
    return [one for one in night.series() if one.filter == series.filter]


def no_mosaic(night: Night, series: Series) -> str:
    """Return in a sentence why there can be no mosaic of the series' filter; empty where there can."""
    fields = mosaic_series(night, series)
    name = series.filter or "no filter"
    if len(fields) < 2:
        return f"A mosaic is of several fields, and the night has one through {name}."
    scored = night.products_of("score")
    lacking = [one.title for one in fields if not any(path in scored for path in one.files)]
    return f"Score {', '.join(lacking)} first (Combine, All)." if lacking else ""


@one_at_a_time
def run_mosaic(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Lay the fields of a filter beside each other by the stars they share: their scored exposures that no rule keeps out."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "combine")
    why = no_mosaic(night, series)
    if why:
        return StationResult("combine", "no mosaic", problem=why)
    scored: list[Scored] = []
    calibrations: dict[str, CalibrateTask] = {}
    for one in mosaic_series(night, series):
        ready, rows = working_of(night, one), quality_rows(night, one)
        calibrations |= dict(ready.calibrations)
        for raw, product in stack_candidates(night, one, rows=rows)[0].items():
            facts = ready.facts.get(raw)
            if facts is not None:
                task = ready.calibrations.get(facts.path)
                aligned: Aligned = aligned_of(night, facts, product, rows[raw]["score"] or 0.0, task)
                scored.append(aligned.scored)
    output = night.products / f"mosaic-{_plain(series.filter)}.fits"
    settings = night.settings.combine
    used = {s.facts.path: calibrations[s.facts.path] for s in scored if s.facts.path in calibrations}
    result = stack_exposures(
        [s.facts for s in scored], output, context, options=stack_options(settings, align="mosaic"), replace=True, scored=scored,
        name=f"mosaic {series.filter}".strip(), calibrations=used,
    )  # fmt: skip
    if not result.ok:
        return StationResult("combine", "no mosaic", problem=f"{result.reason[:1].upper()}{result.reason[1:]}.")
    placed = [o for o in result.frames if o.ok]
    left = [[Path(o.file).name, o.reason] for o in result.frames if not o.ok]
    values = {
        "count": len(placed), "left": left, "width": result.width,
        "height": result.height, "filter": series.filter, "fields": [one.title for one in mosaic_series(night, series)],
        "noise_adu": stored_number(result.noise_adu),
    }  # fmt: skip
    night.store_products("mosaic", [Product("mosaic", output.name, str(output), values)], series="", clear=False)
    text = f"mosaic of {counted(len(placed), 'exposure')}, {result.width} x {result.height} px"
    if left:
        text += f"; {len(left)} are not in it: {left[0][0]}: {left[0][1]}"
    return StationResult("combine", text, len(placed), len(left), "", values)


def _plain(name: str) -> str:
    return "".join(c if c.isalnum() or c in "+-" else "-" for c in name).strip("-") or "nofilter"


def mosaic_of(night: Night, series: Series) -> Product | None:
    """Return the mosaic of a series' filter, where it was made and is there."""
    found = night.products_of("mosaic").get(f"mosaic-{_plain(series.filter)}.fits")
    return found if found is not None and Path(found.output).exists() else None


@one_at_a_time
def run_watch(
    night: Night, context: JobContext, told: Callable[[str, str], object] = lambda path, title: None
) -> StationResult:
    """Stack exposures of the night's folder while they are taken, until a stop is asked for; then all are compared once more.

    Parameters
    ----------
    night : Night
    context : JobContext
    told : callable
        Given the stack's file and a title whenever an exposure was added.
    """
    folder = next((path for path in night.raw_paths if path.is_dir()), None)
    if folder is None:
        return StationResult(
            "combine", "nothing to watch", problem="The night is of single files: there is no folder to watch."
        )
    masters = night.products / "masters"
    # A stop is the usual end here, after which everything is compared: only this loop looks at it.
    own = replace(context, stop=StopToken(), progress=silent)
    watched = Watch(
        folder, night.products / "running", own, masters if masters.is_dir() else None,
        options=stack_options(night.settings.combine), replace_existing=True,
    )  # fmt: skip
    failed = 0
    try:
        while not context.stop.stopping:
            for event in watched.step():
                failed += event.kind in ("not added", "failed")
                if event.stack is not None and event.kind == "added":
                    told(event.stack.output, _stands(event.stack))
                words = f": {event.reason}" if event.reason else ""
                context.progress(0, 0, f"{Path(event.file).name} {event.kind}{words}; {watched.count} stacked")
                if context.stop.stopping:
                    break
            else:
                context.progress(0, 0, f"Watching {folder.name}: {watched.count} stacked. Esc ends it.")
                _wait(context, _EVERY_S)
    except BaseException:
        watched.close()
        raise
    context.progress(0, 1, "Comparing all exposures")
    done = watched.finish()
    for one in done:
        told(one.output, _stands(one))
    if done:
        made = {stack.output: key for key, stack in watched.stacks.items()}
        products = []
        for one in done:
            name, chosen = made[Path(one.output)][:2]
            products.append(Product("running", Path(one.output).name, one.output, _kept_of(one, name, chosen)))
        night.store_products("running", products, series="")
    text = "; ".join(f"{Path(one.output).name}: {_stands(one)}" for one in done) or "nothing was stacked"
    return StationResult(
        "combine", text, sum(one.exposures for one in done), failed, "", {"stacks": [one.output for one in done]}
    )


def running_of(night: Night, series: Series) -> Product | None:
    """Return the running stack of a series' object and filter, where one was made and is there."""
    for product in night.products_of("running").values():
        alike = product.values["filter"] == series.filter and product.values["object"] in (
            series.field.objects or ("",)
        )
        if alike and Path(product.output).exists():
            return product
    return None


def _stands(stack: Progressed) -> str:
    noise = f", noise {stack.noise_adu:.2f} ADU" if stack.noise_adu == stack.noise_adu else ""
    return f"{counted(stack.exposures, 'exposure')}{noise}, FWHM {stack.fwhm_px:.2f} px"


def _kept_of(stack: Progressed, name: str, chosen: str) -> dict[str, Any]:
    """What the night knows of a running stack: of which object, through which filter, and how it stands."""
    return {
        "object": name, "filter": chosen, "count": stack.exposures,
        "noise_adu": stored_number(stack.noise_adu), "fwhm_px": stored_number(stack.fwhm_px),
    }  # fmt: skip


def _wait(context: JobContext, seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end and not context.stop.stopping:
        time.sleep(0.05)
