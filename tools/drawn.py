"""What is in a file that is no table and no frame, and in a figure that is drawn in one, as numbers and words to be compared."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from typing import Any

import numpy as np

# A picture is compared about so many pixels wide.
_WIDE = 240
# Names of parts that are drawn by chance, and fonts, which the library writes.
_NAMES = re.compile(r'\b[a-zA-Z]{1,2}[0-9a-f]{10}\b|"image[0-9a-f]+"')
# So that a number that is whole on one processor and nearly so on another has the same figures.
_NUMBER = re.compile(r"(?<![\w#.])\d+(?:\.\d+)?(?![\w.])")
_STREAM = re.compile(rb"stream\r?\n(.*?)\r?\nendstream", re.DOTALL)


def picture(contents: bytes) -> np.ndarray | None:
    """Return a picture's levels, means of a few pixels, shape (height, width, colours); None for what is none."""
    import cv2

    levels = cv2.imdecode(np.frombuffer(contents, np.uint8), cv2.IMREAD_UNCHANGED)
    if levels is None:
        return None
    step = max(1, levels.shape[1] // _WIDE)
    size = (max(1, levels.shape[1] // step), max(1, levels.shape[0] // step))
    return cv2.resize(levels.astype(np.float32), size, interpolation=cv2.INTER_AREA)


def _alike(drawn: str) -> list[str]:
    """Return lines that draw something, with as many figures to each number."""
    return _NUMBER.sub(lambda found: f"{float(found[0]):.5f}", _NAMES.sub("", drawn)).splitlines()


def _pages(contents: bytes) -> Iterator[str]:
    """Yield what is drawn on the pages of a PDF."""
    for match in _STREAM.finditer(contents):
        try:
            drawn = zlib.decompress(match[1])
        except zlib.error:
            continue
        if drawn.isascii():
            yield from _alike(drawn.decode("ascii"))


def inside(contents: bytes) -> Any:
    """Return what a file draws: levels of a picture, lines of a page; None for anything else."""
    if contents.startswith(b"\x89PNG"):
        return picture(contents)
    if contents.startswith(b"%PDF"):
        return list(_pages(contents))
    if contents[:9].lower().startswith((b"<?xml", b"<svg", b"<!doctype")):
        return _alike(contents.decode("utf-8"))
    return None


def drawn_parts(figure: Any) -> Iterator[tuple[str, Any]]:
    """Yield what a figure of matplotlib is made of: how its axes run, and where its lines, signs, shapes and words stand and how they look."""
    for one in figure.texts:
        yield "words", _words(one)
    for axes in figure.axes:
        told = [
            axes.get_title(),
            axes.get_xlabel(),
            axes.get_ylabel(),
            axes.axison,
            axes.get_xscale(),
            axes.get_yscale(),
        ]
        yield "axes", [axes.get_xlim(), axes.get_ylim(), axes.get_position().bounds, axes.get_aspect(), told]
        for line in axes.lines:
            look = [
                line.get_color(),
                line.get_linewidth(),
                line.get_linestyle(),
                line.get_marker(),
                line.get_markersize(),
            ]
            yield "line", [line.get_xydata(), f"{look} {line.get_zorder()} {line.get_alpha()}"]
        for some in axes.collections:
            yield (
                "signs",
                [
                    np.asarray(some.get_offsets(), float),
                    some.get_facecolor(),
                    some.get_edgecolor(),
                    some.get_linewidth(),
                ],
            )
            yield (
                "sizes",
                [
                    some.get_sizes() if hasattr(some, "get_sizes") else None,
                    [path.vertices for path in some.get_paths()],
                ],
            )
        for shape in axes.patches:
            path = shape.get_patch_transform().transform_path(shape.get_path())
            yield "shape", [path.vertices, shape.get_facecolor(), shape.get_edgecolor(), shape.get_linewidth()]
        for image in axes.images:
            yield "image", [np.asarray(image.get_array(), float), image.get_extent()]
        legend = axes.get_legend()
        for one in [*axes.texts, *([] if legend is None else legend.get_texts())]:
            yield "words", _words(one)


def _words(text: Any) -> list[Any]:
    look = [text.get_color(), text.get_fontsize(), text.get_ha(), text.get_va(), text.get_rotation(), text.get_weight()]
    # What a note points at.
    at = [float(place) for place in (*text.get_position(), *getattr(text, "xy", ()))]
    return [text.get_text(), at, f"{look}"]
