"""World coordinates, star catalogues, the plate solver, separations."""

from ulvar.astrometry.catalogue import CatalogueError, StarCatalogue, load_catalogue, write_tiles
from ulvar.astrometry.solver import PlateSolution, SolveHints, solve_plate
from ulvar.astrometry.sphere import offset_position, separation_deg, tangent_plane, tangent_to_sky
from ulvar.astrometry.wcs import Wcs, fit_wcs, wcs_from_header

__all__ = [
    "CatalogueError",
    "PlateSolution",
    "SolveHints",
    "StarCatalogue",
    "Wcs",
    "fit_wcs",
    "load_catalogue",
    "offset_position",
    "separation_deg",
    "solve_plate",
    "tangent_plane",
    "tangent_to_sky",
    "wcs_from_header",
    "write_tiles",
]
