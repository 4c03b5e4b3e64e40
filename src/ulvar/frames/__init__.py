"""An exposure: pixels, mask, facts. FITS in and out, header dialects, grouping."""

from ulvar.frames.dialects import facts_from_header
from ulvar.frames.discover import find_files, is_supported_output
from ulvar.frames.facts import ExposureFacts, Role, fact_names, with_user_facts
from ulvar.frames.fits import FileRows, header_of, read_frame, read_plane, scan_file, write_fits
from ulvar.frames.frame import Frame, FrameError, MaskBit, mark
from ulvar.frames.grouping import Group, Tolerances, group_exposures
from ulvar.frames.sexagesimal import parse_angle, parse_position

__all__ = [
    "ExposureFacts",
    "FileRows",
    "Frame",
    "FrameError",
    "Group",
    "MaskBit",
    "Role",
    "Tolerances",
    "fact_names",
    "facts_from_header",
    "find_files",
    "group_exposures",
    "header_of",
    "is_supported_output",
    "mark",
    "parse_angle",
    "parse_position",
    "read_frame",
    "read_plane",
    "scan_file",
    "with_user_facts",
    "write_fits",
]
