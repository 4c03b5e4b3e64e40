"""The ``ulvar`` command."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ulvar.cli import calibration, camera, measuring, nights, stacking
from ulvar.cli.common import fail_usage, set_up_log

app = typer.Typer(
    name="ulvar",
    help="From a night of raw telescope exposures to a stack, a plate solution and a light curve.",
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
catalogue = typer.Typer(help="Local star catalogues.", no_args_is_help=True)

app.command("sort")(calibration.sort)
app.command("masters")(calibration.masters)
app.command("calibrate")(calibration.calibrate)
app.command("stars")(stacking.stars)
app.command("stack")(stacking.stack)
app.command("solve")(measuring.solve)
app.command("measure")(measuring.measure)
app.command("curve")(measuring.curve)
app.command("demo")(nights.demo)
app.command("run")(nights.run)
catalogue.command("import")(measuring.catalogue_import)
catalogue.command("fetch")(measuring.catalogue_fetch)
app.add_typer(catalogue, name="catalogue")
app.command("shooting")(camera.shooting)
app.command("camera")(camera.camera)
app.add_typer(camera.library, name="library")


def _open_window(path: Path | None) -> None:
    from ulvar.desktop.app import run_window

    raise typer.Exit(run_window(path))


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    """Without a command the window opens."""
    set_up_log()
    if version:
        from ulvar import __version__

        typer.echo(__version__)
        raise typer.Exit()
    if context.invoked_subcommand is None:
        _open_window(None)


@app.command("open")
def open_night(
    night: Annotated[
        Path | None, typer.Argument(metavar="[NIGHT]", help="A night, or a folder of raw exposures.")
    ] = None,
) -> None:
    """Open the window, on a night or a folder of exposures if one is named."""
    if night is not None and not night.exists():
        fail_usage(f"{night}: there is no such folder")
    _open_window(night)


def main() -> None:
    """Entry point."""
    app()
