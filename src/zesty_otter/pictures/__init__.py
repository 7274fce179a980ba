"""Drawing: pictures of scenes, and sheets of many."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.pictures.camera import SIDES
    from zesty_otter.pictures.sheets import Card, card_of, cards_of, in_columns, level_cards, sheet
    from zesty_otter.pictures.view import STYLES, Look, picture, save

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        camera="SIDES",
        sheets="Card card_of cards_of in_columns level_cards sheet",
        view="STYLES Look picture save",
    ),
)

__all__ = [
    "SIDES",
    "STYLES",
    "Card",
    "Look",
    "card_of",
    "cards_of",
    "in_columns",
    "level_cards",
    "picture",
    "save",
    "sheet",
]
