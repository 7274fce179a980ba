"""Drawing: pictures of scenes, and sheets of many."""

from zesty_otter.pictures.camera import SIDES
from zesty_otter.pictures.sheet import Card, card_of, cards_of, in_columns, level_cards, sheet
from zesty_otter.pictures.view import STYLES, Look, picture, save

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
