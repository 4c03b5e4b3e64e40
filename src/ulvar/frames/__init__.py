"""An exposure: pixels, mask, facts. FITS, camera raw, TIFF in; FITS out; header dialects, sessions, grouping."""

from ulvar.frames.address import Address, file_of, split_address
from ulvar.frames.coding import facts_from_text, facts_to_text
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.discover import find_files, is_supported_output
from ulvar.frames.facts import ExposureFacts, Role, fact_names, with_user_facts
from ulvar.frames.fits_header import header_of
from ulvar.frames.fits_rows import FileRows
from ulvar.frames.fits_write import write_fits
from ulvar.frames.frame import Frame, FrameError, MaskBit, mark
from ulvar.frames.grouping import Group, Tolerances, group_exposures
from ulvar.frames.identity import GIVEN, KNOWN_OTHERWISE, fingerprint, identity
from ulvar.frames.mosaic import CELL_SITES, Balance, cell_colours, is_mosaic, on_one_scale, white_balance
from ulvar.frames.names import distinct_names, distinct_stems
from ulvar.frames.noise import CLIPPED_TO_SIGMA, MAD_TO_SIGMA, difference_noise, robust_spread
from ulvar.frames.readers import (
    Rows,
    carried_cards,
    is_fits_path,
    open_rows,
    read_frame,
    read_plane,
    scan_file,
    scan_images,
)
from ulvar.frames.sessions import TagRule, assign_sessions, preview_rule
from ulvar.frames.sexagesimal import parse_angle, parse_position
from ulvar.frames.shapes import Shape, shapes_mask
from ulvar.frames.times import parse_time

__all__ = [
    "CELL_SITES",
    "CLIPPED_TO_SIGMA",
    "GIVEN",
    "KNOWN_OTHERWISE",
    "MAD_TO_SIGMA",
    "Address",
    "Balance",
    "ExposureFacts",
    "FileRows",
    "Frame",
    "FrameError",
    "Group",
    "MaskBit",
    "Role",
    "Rows",
    "Shape",
    "TagRule",
    "Tolerances",
    "assign_sessions",
    "carried_cards",
    "cell_colours",
    "difference_noise",
    "distinct_names",
    "distinct_stems",
    "fact_names",
    "facts_from_header",
    "facts_from_text",
    "facts_to_text",
    "file_of",
    "find_files",
    "fingerprint",
    "group_exposures",
    "header_of",
    "identity",
    "is_fits_path",
    "is_mosaic",
    "is_supported_output",
    "mark",
    "on_one_scale",
    "open_rows",
    "parse_angle",
    "parse_position",
    "parse_time",
    "preview_rule",
    "read_frame",
    "read_plane",
    "robust_spread",
    "scan_file",
    "scan_images",
    "shapes_mask",
    "split_address",
    "white_balance",
    "with_user_facts",
    "write_fits",
]
