"""ulvar planes."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import Facts, Json, Paths, Replace, failed_outcomes, finish, hinted, read_exposures, running, told
from ulvar.engine import counted
from ulvar.flows import write_planes
from ulvar.frames import Demosaic


def planes(
    paths: Paths,
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder of <stem>-R.fits, -G.fits and -B.fits.")],
    method: Annotated[
        Demosaic,
        typer.Option(
            help="half: of nothing but what was measured, half as large, for photometry. bilinear, malvar: as large as the "
            "exposure, missing pixels interpolated, without and with the help of the other colours."
        ),
    ] = Demosaic.HALF,
    json: Json = False,
    fact: Facts = [],
    replace: Replace = False,
) -> None:
    """Write each colour of a colour sensor's exposures as an exposure of its own, with the filter R, G or B."""
    exposures, failed, _ = read_exposures(paths, fact)
    with running(len(exposures)) as context:
        done = write_planes(exposures, out, context, method=method, replace_existing=replace)
    outcomes = hinted([*done, *failed_outcomes(failed)])
    good = [o for o in outcomes if o.ok]
    finish(
        {
            "frames": [
                {"file": o.file, "ok": o.ok, "reason": o.reason, "skipped": o.skipped, "planes": o.values.get("planes", {})}
                for o in outcomes
            ]
        },
        as_json=json, done=bool(good), failed=len(good) < len(outcomes),
        lines=[f"{out}: the colours of {counted(len(good), 'exposure')}", *told(outcomes)],
    )  # fmt: skip
