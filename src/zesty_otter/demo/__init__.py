"""The demo kit: pieces of a small boatyard at a weir, made up here and deliberately dirty."""

from zesty_otter.demo.kit import PIECES, Piece, write_job, write_kit

__all__ = ["PIECES", "Piece", "write_job", "write_kit"]
