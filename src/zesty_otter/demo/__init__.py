"""The demo kit: pieces of a small boatyard at a weir, made up here and deliberately dirty."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.demo.kit import PIECES, Piece, write_job, write_kit
    from zesty_otter.demo.level import write_level

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        kit="PIECES Piece write_job write_kit",
        level="write_level",
    ),
)

__all__ = ["PIECES", "Piece", "write_job", "write_kit", "write_level"]
