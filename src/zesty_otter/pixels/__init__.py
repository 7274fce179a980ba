"""Images: bytes in, bytes or plain facts out. Knows no material, no scene and no file.

The imaging library behind it is loaded when an image is first looked at.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.pixels.images import (
        KINDS,
        SUFFIXES,
        ImageInfo,
        Source,
        fitting_size,
        has_alpha,
        inspect,
        is_cut_out,
        is_cut_short,
        is_for_graphics_cards,
        looks_like_normal_map,
        opens,
        pack,
        png_of,
        resized,
        rework,
        rgba,
        single_channel,
        to_png,
        with_alpha,
    )
    from zesty_otter.pixels.pages import Look, bytes_of, numbers_of

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        images="KINDS SUFFIXES ImageInfo Source fitting_size has_alpha inspect is_cut_out is_cut_short"
        " is_for_graphics_cards looks_like_normal_map opens pack png_of resized rework rgba single_channel to_png"
        " with_alpha",
        pages="Look bytes_of numbers_of",
    ),
)


class ImageError(ValueError):
    """Bytes that are not an image we can use."""


__all__ = [
    "KINDS",
    "SUFFIXES",
    "ImageError",
    "ImageInfo",
    "Look",
    "Source",
    "bytes_of",
    "fitting_size",
    "has_alpha",
    "inspect",
    "is_cut_out",
    "is_cut_short",
    "is_for_graphics_cards",
    "looks_like_normal_map",
    "numbers_of",
    "opens",
    "pack",
    "png_of",
    "resized",
    "rework",
    "rgba",
    "single_channel",
    "to_png",
    "with_alpha",
]
