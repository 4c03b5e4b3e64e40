"""The project: SQLite store, selections, findings, recipe, provenance; runs the stations."""

from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.recipe import RecipeError, read_recipe
from ulvar.night.settings import NightSettings
from ulvar.night.state import SERIES_STATIONS, STATIONS
from ulvar.night.stations import RUNNERS, StationResult, run_station
from ulvar.night.store import NightError

__all__ = [
    "RUNNERS",
    "SERIES_STATIONS",
    "STATIONS",
    "Night",
    "NightError",
    "NightSettings",
    "Product",
    "RecipeError",
    "StationResult",
    "read_recipe",
    "run_station",
]
