"""ulvar picture."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli.common import (
    Json,
    Paths,
    Replace,
    fail_usage,
    failed_outcomes,
    finish,
    hinted,
    read_exposures,
    running,
    told,
)
from ulvar.flows import PictureOptions, is_colour, write_view
from ulvar.frames import distinct_stems, file_of

_SUFFIXES = (".png", ".tif", ".tiff")


def picture(
    paths: Paths,
    out: Annotated[Path, typer.Option("--out", metavar="FILE|DIR", help="A .png or .tif, or a folder of one for each file.")],
    levels: Annotated[
        str | None, typer.Option(metavar="BLACK,WHITE", help="Levels in ADU; by default from sky and noise of each picture.")
    ] = None,
    caption: Annotated[
        bool, typer.Option("--caption/--no-caption", help="Say under a .png what it shows.")
    ] = True,
    saturation: Annotated[float, typer.Option(help="Strength of colours of a colour picture; 1 as they are.")] = 1.0,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Write pictures of exposures, stacks and colour pictures as the eye sees them."""
    chosen = None
    if levels is not None:
        try:
            black, white = (float(part) for part in levels.split(","))
        except ValueError:
            fail_usage(f"--levels takes BLACK,WHITE, not '{levels}'")
        if not black < white:
            fail_usage("--levels: black lies under white")
        chosen = black, white
    if not 0 <= saturation <= 5:
        fail_usage("--saturation goes from 0 to 5")
    exposures, failed, _ = read_exposures(paths, [])
    # The planes of a colour picture are one.
    files = list(dict.fromkeys(file_of(f.path) if is_colour(file_of(f.path)) else f.path for f in exposures))
    one = out.suffix.lower() in _SUFFIXES
    if one and len(files) > 1:
        fail_usage(f"{out}: {len(files)} pictures need a folder")
    if not one and out.suffix and not out.is_dir():
        fail_usage(f"{out}: a picture is written as .png or .tif")
    stems = distinct_stems(files)
    options = PictureOptions(chosen, caption, saturation)
    with running(1) as context:
        done = []
        for n, path in enumerate(files):
            context.progress(n, len(files), "Writing pictures")
            context.stop.check()
            done.append(write_view(path, out if one else out / f"{stems[path]}.png", options, replace=replace))
    outcomes = hinted([*done, *failed_outcomes(failed)])
    good = [o for o in outcomes if o.ok]
    finish(
        {
            "frames": [
                {
                    "file": o.file, "ok": o.ok, "reason": o.reason, "output": o.output, "black_adu": o.values.get("black_adu"),
                    "white_adu": o.values.get("white_adu"),
                }
                for o in outcomes
            ]
        },
        as_json=json, done=bool(good), failed=len(good) < len(outcomes),
        lines=[*(o.output for o in good), *told(outcomes)],
    )  # fmt: skip
