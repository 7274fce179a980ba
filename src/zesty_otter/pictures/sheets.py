"""Many pictures on one sheet, each with what there is to say of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PIL import Image, ImageDraw

from zesty_otter.audit.surveying import survey
from zesty_otter.model import Placed, Scene, count_of, format_length
from zesty_otter.pictures.palette import FAINT, INK, LAMP, PAPER, PLUM, rgb
from zesty_otter.pictures.view import Look, font, picture
from zesty_otter.steps import Roles
from zesty_otter.steps.assets import Asset, assets_of, level_of

_MOST_COLUMNS = 6


@dataclass(frozen=True, eq=False)
class Card:
    """One place on a sheet.

    Parameters
    ----------
    title : str
    lines : tuple of str
        What stands below the picture.
    image : PIL.Image.Image or None
    problem : str
        What went wrong, in place of the picture.
    """

    title: str
    lines: tuple[str, ...] = ()
    image: Image.Image | None = None
    problem: str = ""


def cards_of(scene: Scene, look: Look) -> list[Card]:
    """A card for every asset of a scene; one that says so when there is none.

    Parameters
    ----------
    scene : Scene
    look : Look

    Returns
    -------
    list of Card

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> [card.title for card in cards_of(zo.Scene.from_mesh(sail), Look(size=(200, 150)))]
    ['sail']
    """
    scene = Roles().apply(scene)
    assets = [one for one in assets_of(scene) if any(placed.node.drawn is not None for placed in one.main)]
    if not assets:
        return [Card(scene.name, problem="nothing to draw: no faces")]
    return [_card(scene, asset, look) for asset in assets]


def _card(scene: Scene, asset: Asset, look: Look) -> Card:
    numbers = [one.number for one in asset.main]
    image = picture(scene, look, nodes=numbers)
    bounds = asset.bounds()
    metre = scene.frame.unit
    sides = (bounds[1] - bounds[0])[[scene.frame.towards(word)[0] for word in ("left", "up", "forward")]]
    if metre:
        size = " x ".join(format_length(float(side) * metre) for side in sides)
    else:
        size = " x ".join(f"{side:.4g}" for side in sides) + " units"
    mesh = [one.node.drawn for one in asset.main if one.node.drawn is not None]
    counts = f"{sum(one.triangle_count for one in mesh):,} triangles, {count_of(len(mesh[0].slots), 'slot')}"
    roles = [one.node.role for one in asset.rest if one.node.drawn is not None]
    more = [
        count_of(roles.count(role), word)
        for role, word in (("level", "level"), ("collision", "collision mesh"), ("shadow", "shadow mesh"))
        if role in roles
    ]
    return Card(asset.name, (size, counts, ", ".join(more) if more else "no levels, no collision"), image)


def card_of(scene: Scene, look: Look, title: str) -> Card:
    """One card for all of a scene.

    Parameters
    ----------
    scene : Scene
    look : Look
    title : str

    Returns
    -------
    Card

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> card_of(zo.Scene.from_mesh(sail), Look(size=(200, 150)), "sail").title
    'sail'
    """
    facts = survey(scene)
    unit = scene.frame.unit
    if facts.size is None:
        return Card(title, problem="nothing to draw: no faces")
    size = " x ".join(format_length(side * unit) if unit else f"{side:.4g}" for side in facts.size)
    counts = f"{facts.counted} triangles, {count_of(len(facts.materials), 'material')}"
    return Card(title, (size if unit else f"{size} units", counts), picture(scene, look))


def level_cards(scene: Scene, look: Look) -> list[list[Card]]:
    """For each asset a row of cards: itself and its levels, with what was measured of them.

    Parameters
    ----------
    scene : Scene
    look : Look

    Returns
    -------
    list of list of Card

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> [len(row) for row in level_cards(zo.Scene.from_mesh(sail), Look(size=(200, 150)))]
    [1]
    """
    scene = Roles().apply(scene)
    rows = []
    for asset in assets_of(scene):
        levels = sorted(
            (one for one in asset.rest if one.node.role == "level" and one.node.drawn is not None),
            key=lambda one: level_of(one.node),
        )
        rows.append([_level_card(scene, one, look) for one in (*asset.main[:1], *levels) if one.node.drawn])
    rows = [row for row in rows if row]
    return rows or [[Card(scene.name, problem="nothing to draw: no faces")]]


def _level_card(scene: Scene, placed: Placed, look: Look) -> Card:
    mesh = placed.node.drawn
    moved, away = placed.node.properties.get("deviation"), placed.node.properties.get("distance")
    said = f"moved by {format_length(float(moved))}" if isinstance(moved, int | float) else ""
    if isinstance(away, int | float):
        said += f", from {format_length(float(away))}"
    count = mesh.triangle_count if mesh is not None else 0
    return Card(placed.node.name, (f"{count:,} triangles", said), picture(scene, look, nodes=[placed.number]))


def columns_for(count: int) -> int:
    """How many cards stand beside each other."""
    return min(count, 2 if count <= 4 else 3 if count <= 9 else 4 if count <= 16 else 6)


def in_columns(rows: Sequence[Sequence[Card]]) -> tuple[list[Card], int]:
    """Rows of cards one after the other, and how many columns keep each row together.

    Parameters
    ----------
    rows : sequence of sequence of Card

    Returns
    -------
    cards : list of Card
    columns : int

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> card = card_of(zo.Scene.from_mesh(sail), Look(size=(200, 150)), "sail")
    >>> cards, columns = in_columns([[card], [card, card]])
    >>> len(cards), columns
    (4, 2)
    """
    columns = min(max(map(len, rows)), _MOST_COLUMNS)
    empty = Card("")
    return [card for row in rows for card in (*row, *([empty] * (-len(row) % columns)))], columns


def sheet(cards: Sequence[Card], *, wide: int = 1280, title: str = "", columns: int = 0) -> Image.Image:
    """All cards on one picture, in rows.

    Parameters
    ----------
    cards : sequence of Card
        One without a title leaves its place free.
    columns : int
        How many stand beside each other; as many as suit their number when 0.
    wide : int
        Pixels from side to side.
    title : str
        A line above them.

    Returns
    -------
    PIL.Image.Image

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> cards = cards_of(zo.Scene.from_mesh(sail), Look(size=(200, 150)))
    >>> sheet(cards, wide=640, title="yard").width
    640
    """
    columns = columns or columns_for(len(cards))
    gap, line = 14, 19
    width = (wide - gap * (columns + 1)) // columns
    high = max((one.image.height * width // one.image.width for one in cards if one.image), default=width * 5 // 8)
    below = line * (1 + max((len(one.lines) for one in cards), default=0)) + 10
    head = 40 if title else 0
    rows = -(-len(cards) // columns)
    page = Image.new("RGB", (wide, head + rows * (high + below + gap) + gap), rgb(PAPER))
    draw = ImageDraw.Draw(page)
    if title:
        draw.text((gap, 12), title, rgb(INK), font(20))
    for n, card in enumerate(cards):
        if not card.title:
            continue
        x, y = gap + n % columns * (width + gap), head + gap + n // columns * (high + below + gap)
        if card.image is not None:
            page.paste(card.image.resize((width, high), Image.Resampling.LANCZOS), (x, y))
        draw.rectangle((x, y, x + width, y + high), outline=rgb(PLUM if card.problem else FAINT))
        if card.problem:
            _wrapped(draw, card.problem, (x + 10, y + 10), width - 20)
        draw.text((x, y + high + 5), _fitted(card.title, width, 15), rgb(LAMP if card.problem else INK), font(15))
        for k, text in enumerate(card.lines):
            draw.text((x, y + high + 7 + line * (k + 1)), _fitted(text, width, 13), rgb(FAINT), font(13))
    return page


def _fitted(text: str, width: int, size: int) -> str:
    """Text cut to a width, with dots where something is missing."""
    letters = font(size)
    if letters.getlength(text) <= width:
        return text
    while text and letters.getlength(text + "...") > width:
        text = text[:-1]
    return text + "..."


def _wrapped(draw: ImageDraw.ImageDraw, text: str, at: tuple[int, int], width: int) -> None:
    letters, lines = font(13), [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if letters.getlength(longer) > width and lines[-1]:
            lines.append(word)
        else:
            lines[-1] = longer
    draw.multiline_text(at, "\n".join(lines[:12]), rgb(PLUM), letters, spacing=5)
