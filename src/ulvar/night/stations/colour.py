"""A colour picture of a field, from the stacks of its series."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from ulvar.astrometry import CatalogueError, StarCatalogue, load_catalogue
from ulvar.engine import JobContext
from ulvar.flows import PlateOptions, Series, hinted_cones, make_colour
from ulvar.frames import ExposureFacts, FrameError, scan_file
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.settings import CombineSettings
from ulvar.night.stations.shared import StationResult, no_series, stored_number
from ulvar.night.working import one_at_a_time
from ulvar.stacking import CHANNELS, ColourOptions, channel_filters


def colour_stacks(night: Night, series: Series) -> dict[str, tuple[Series, Product]]:
    """Return the stacks of a field by the channel that each can be, by the names of their filters."""
    of_field = [one for one in night.series() if one.field.key == series.field.key]
    stacked: dict[str, tuple[Series, Product]] = {}
    for one in of_field:
        product = night.products_of("stack", one.key).get(one.key)
        if product is not None and Path(product.output).exists():
            stacked.setdefault(one.filter, (one, product))
    found = {channel: stacked[name] for channel, name in channel_filters(list(stacked)).items()}
    if any(channel not in found for channel in CHANNELS):
        # A colour sensor shows all three through one filter.
        for one, product in stacked.values():
            planes = {c: p for c, p in (product.values.get("planes") or {}).items() if Path(p).exists()}
            if len(planes) == len(CHANNELS):
                return {
                    channel: (one, replace(product, output=planes[colour])) for channel, colour in zip(CHANNELS, "RGB")
                }
    return found


def what_is_missing(night: Night, series: Series) -> str:
    """Return in a sentence which stacks a colour picture of the field lacks; empty where none."""
    there = colour_stacks(night, series)
    lacking = [channel for channel in CHANNELS if channel not in there]
    if not lacking:
        return ""
    named = lacking[0] if len(lacking) == 1 else f"{', '.join(lacking[:-1])} and {lacking[-1]}"
    return f"A colour picture needs {'a stack' if len(lacking) == 1 else 'stacks'} through {named}, too."


def _filter_of(series: Series, product: Product, stack: ExposureFacts) -> str:
    """Return what a channel was taken through: the filter of its series, or the colour of the sensor."""
    return stack.filter if product.output in (product.values.get("planes") or {}).values() else series.filter


def _options(settings: CombineSettings) -> ColourOptions:
    red, green, blue = settings.ratios
    return ColourOptions((red, green, blue), settings.white, settings.gradient, settings.saturation)


def _catalogue(night: Night, green: ExposureFacts) -> StarCatalogue:
    """Return the part of the night's catalogue that a stack may show.

    Raises
    ------
    CatalogueError
        If none is chosen, or it cannot be read.
    """
    path = night.settings.plate.catalogue
    if not path:
        raise CatalogueError("White by a catalogue needs one: choose it at Plate")
    return load_catalogue(path, near=hinted_cones([green], PlateOptions()))


@one_at_a_time
def run_colour(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Make the colour picture of a series' field: linear as FITS, and as the eye sees it as TIFF."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "combine")
    lacking = what_is_missing(night, series)
    if lacking:
        return StationResult("combine", "no colour picture", problem=lacking)
    there = colour_stacks(night, series)
    stacks: dict[str, ExposureFacts] = {}
    for channel, (_, product) in there.items():
        try:
            stacks[channel] = scan_file(product.output)
        except FrameError as error:
            return StationResult("combine", "no colour picture", problem=f"{Path(error.path).name}: {error.reason}.")
    # Beside the folders of the series: it belongs to all of them.
    folder = night.series_folder(there["green"][0].key)
    output = folder / "colour.fits"
    options, catalogue = _options(night.settings.combine), None
    if options.balance == "catalogue":
        try:
            catalogue = _catalogue(night, stacks["green"])
        except CatalogueError as error:
            return StationResult("combine", "no colour picture", problem=f"{error}.")
    result = make_colour(
        stacks, output, context, options=options, also=[folder / "colour.tif"], replace_existing=True, catalogue=catalogue
    )  # fmt: skip
    if not result.ok:
        return StationResult("combine", "no colour picture", problem=f"{result.reason}.")
    filters = {channel: _filter_of(*there[channel], stacks[channel]) for channel in there}
    values = {
        "channels": {c.name: {"file": c.file, "factor": c.factor, "residual_px": stored_number(c.residual_px)} for c in result.channels},
        "filters": filters,
        "balance_stars": result.balance_stars, "white_in": result.white_in, "picture": str(folder / "colour.tif"),
    }  # fmt: skip
    for one, _ in there.values():
        night.store_products("colour", [Product("colour", one.key, str(output), values)], series=one.key, clear=True)
    names = ", ".join(f"{channel} {name}" for channel, name in filters.items())
    return StationResult("combine", f"colour picture of {names}", len(there), 0, "", values)
