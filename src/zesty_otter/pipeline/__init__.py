"""What happens to one source on its way to one output: read, steps, the target's wishes, write, read back, facts.

It stands once: `convert`, jobs and whatever else makes files call it.
"""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.pipeline.conversion import Conversion, convert
    from zesty_otter.pipeline.pieces import Piece
    from zesty_otter.pipeline.source import SourceFile
    from zesty_otter.pipeline.wanted import Wanted, checked, pieces_of, prepare, selection, target_steps

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        conversion="Conversion convert",
        pieces="Piece",
        source="SourceFile",
        wanted="Wanted checked pieces_of prepare selection target_steps",
    ),
)

__all__ = [
    "Conversion",
    "Piece",
    "SourceFile",
    "Wanted",
    "checked",
    "convert",
    "pieces_of",
    "prepare",
    "selection",
    "target_steps",
]
