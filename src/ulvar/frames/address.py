"""Names of single images inside files that hold several: ``cube.fits[1,3]`` is plane 3 of extension 1."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass

_ADDRESS = re.compile(r"(?P<file>.+)\[(?P<hdu>\d{1,6})(?:,(?P<plane>\d{1,9}))?\]")


@dataclass(frozen=True)
class Address:
    """Where an image is: the file, and inside it the extension and the plane (0-based; None = the only one)."""

    file: str
    hdu: int | None = None
    plane: int | None = None

    @property
    def text(self) -> str:
        """The address as one text, which is what `ExposureFacts.path` holds."""
        if self.hdu is None:
            return self.file
        return f"{self.file}[{self.hdu}]" if self.plane is None else f"{self.file}[{self.hdu},{self.plane}]"


def split_address(text: str) -> Address:
    """Return the parts of an address; a file whose own name ends in brackets is taken as that file."""
    found = _ADDRESS.fullmatch(text)
    if found is None or os.path.lexists(text):
        return Address(text)
    plane = found["plane"]
    return Address(found["file"], int(found["hdu"]), None if plane is None else int(plane))


def file_of(text: str) -> str:
    """Return the file of an address."""
    return split_address(text).file if text.endswith("]") else text
