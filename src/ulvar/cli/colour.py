"""ulvar colour."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ulvar.astrometry import CatalogueError, load_catalogue
from ulvar.cli.common import Json, Replace, fail_usage, finish, hint, numbers_in, read_exposures, running
from ulvar.engine import counted
from ulvar.flows import Outcome, make_colour
from ulvar.frames import ExposureFacts
from ulvar.stacking import CHANNELS, ColourOptions

_SUFFIXES = (".fits", ".fit", ".fts", ".tif", ".tiff", ".png")


class Balance(StrEnum):
    """What is white."""

    STARS = "stars"
    CATALOGUE = "catalogue"
    NONE = "none"


def colour(
    red: Annotated[Path, typer.Option("--red", metavar="FILE", help="Stack through the red filter.")],
    green: Annotated[Path, typer.Option("--green", metavar="FILE", help="Through green; the picture is on its grid.")],
    blue: Annotated[Path, typer.Option("--blue", metavar="FILE", help="Through blue.")],
    out: Annotated[Path, typer.Option("--out", metavar="FILE", help="The picture: .fits (linear), .tif or .png.")],
    luminance: Annotated[
        Path | None, typer.Option("--luminance", metavar="FILE", help="Gives the brightness; the others give the colour.")
    ] = None,
    balance: Annotated[Balance, typer.Option(
        help="stars: the average star is white. catalogue: a star like the Sun is, by the colours of a catalogue. none: the channels "
        "stay as they are."
    )] = Balance.STARS,
    catalogue: Annotated[Path | None, typer.Option(metavar="PATH", help="Catalogue with two bands: CSV file or folder of tiles.")] = None,
    white: Annotated[float | None, typer.Option(metavar="MAG", help="Colour index of what is white; by default that of the Sun.")] = None,
    ratios: Annotated[str, typer.Option(metavar="R,G,B", help="What the channels are multiplied with after the balance.")] = "1,1,1",
    gradient: Annotated[int, typer.Option(help="Order of the surface taken off each channel, 0 to 4; 0: its level alone.")] = 0,
    saturation: Annotated[float, typer.Option(help="Strength of colours in .tif and .png; 1 as they are.")] = 1.0,
    depth: Annotated[int, typer.Option(help="Bits of a TIFF: 16 as the eye sees it, or 32, linear.")] = 16,
    json: Json = False,
    replace: Replace = False,
) -> None:  # fmt: skip
    """Make a colour picture from stacks of red, green and blue, aligned by their stars."""
    if depth not in (16, 32):
        fail_usage("--depth is 16 or 32")
    if out.suffix.lower() not in _SUFFIXES:
        fail_usage(f"{out}: a colour picture is written as .fits, .tif or .png")
    try:
        options = ColourOptions(numbers_in(ratios, "--ratios", "R,G,B", 3), balance.value, gradient, saturation, white)  # type: ignore[arg-type]
        known = None if catalogue is None else load_catalogue(catalogue)
    except (ValueError, CatalogueError) as error:
        fail_usage(str(error))
    if (balance is Balance.CATALOGUE) != (catalogue is not None):
        fail_usage("--balance catalogue and --catalogue go together")
    given = dict(zip(CHANNELS, (red, green, blue))) | ({} if luminance is None else {"luminance": luminance})
    stacks: dict[str, ExposureFacts] = {}
    problems: list[Outcome] = []
    for name, path in given.items():
        found, failed, _ = read_exposures([str(path)], [])
        problems += [Outcome(f.file, False, f.reason) for f in failed]
        if found:
            stacks[name] = found[0]
        elif not failed:
            problems.append(Outcome(str(path), False, "it holds no picture"))
    if problems:
        finish(
            {"output": "", "channels": [{"file": o.file, "ok": False, "reason": o.reason} for o in problems]},
            as_json=json, done=False, lines=[f"{Path(o.file).name}: {o.reason}" for o in problems],
        )  # fmt: skip
    with running(len(stacks)) as context:
        result = make_colour(
            stacks, out, context, options=options, depth=depth, replace_existing=replace, catalogue=known
        )
    lines = [
        f"{c.name}: {Path(c.file).name}, times {c.factor:.3f}"
        + (f", aligned to {c.residual_px:.3f} px" if c.resampled else "")
        for c in result.channels
        if not c.reason
    ]
    lines.append(
        f"{result.output}: {result.reason}{hint(result.code)}" if result.reason
        else f"{result.output}: {result.width} x {result.height} px, white by {counted(result.balance_stars, 'star')}"
        + (f" in {result.white_in}" if result.white_in else "")
    )  # fmt: skip
    finish(
        {
            "output": result.output if result.ok else "", "reason": result.reason, "width": result.width, "height": result.height,
            "balance_stars": result.balance_stars, "white_in": result.white_in,
            "channels": [
                {
                    "channel": c.name, "file": c.file, "ok": not c.reason, "reason": c.reason, "factor": c.factor,
                    "residual_px": c.residual_px, "resampled": c.resampled,
                }
                for c in result.channels
            ],
        },
        as_json=json, done=result.ok, failed=not result.ok, lines=lines,
    )  # fmt: skip
