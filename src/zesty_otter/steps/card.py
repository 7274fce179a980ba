"""Flat pictures of meshes, their cheapest level."""

from __future__ import annotations

import math
import re
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter import pixels
from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.raster.cards import Paint, side_by_side, upright_views
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import (
    Layer,
    Material,
    Mesh,
    Node,
    Note,
    Placed,
    Scene,
    Texture,
    TextureUse,
    count_of,
    determinant,
    with_nodes_behind,
)
from zesty_otter.shading import painted, placed_uvs
from zesty_otter.steps.assets import Asset, assets_of, level_of
from zesty_otter.steps.base import Step, tell
from zesty_otter.steps.levels import FieldOfView, LevelNames, PictureHeight, PixelError, distance_of
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import Siblings
from zesty_otter.steps.words import chosen_numbers

_UNSAFE = re.compile(r"[^\w.-]+")
_PLACES = 20_000  # where the mesh is measured against its card
_SEE_THROUGH = 0.1  # the alpha below which nothing is seen of what is blended
_LENGTHS = ("deviation", "deviation_95", "deviation_mean", "distance")  # what grows with a copy


class Card(Step):
    """Add a flat picture of every visible mesh as its last level: for nets, foliage and anything far away.

    Looks at visible meshes, their base colours and textures, and vertex colours. Adds a node after the existing
    levels, with one upright rectangle or several that cross, and a material with the picture, cut out where nothing
    is. Its properties say how far it is from the mesh, and the ``distance`` from which it may be shown: where
    neither that nor a pixel of the picture is larger than ``pixel_error``. Skips meshes that are no heavier than
    their card. Refuses nothing.
    """

    slug: ClassVar[str] = "card"
    example: ClassVar[dict[str, Any]] = {"planes": 2, "pixels": 256, "only": "net*"}

    planes: int = Field(1, ge=1, le=4, description="Number of rectangles, which cross each other.")
    facing: Literal["auto", "front", "side"] = Field(
        "auto", description="Where the first one faces; auto picks the wider view."
    )
    pixels: int = Field(256, ge=8, le=4096, description="Pixels along the longest side of a rectangle.")
    pixel_error: PixelError = 1.0
    picture_height: PictureHeight = 1080
    field_of_view: FieldOfView = 60.0
    names: LevelNames = "{name}_LOD{level}"

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("making cards")
        made: dict[tuple[int, bytes], tuple[Mesh, dict[str, float]] | None] = {}
        behind: dict[int, list[Node]] = {}
        notes: list[Note] = []
        missing: dict[str, None] = {}
        siblings = Siblings()
        assets = assets_of(scene)
        for number, asset in enumerate(assets):
            tell(number / len(assets))
            for placed in asset.main:
                mesh = placed.node.drawn
                if placed.number not in numbers or mesh is None or not mesh.face_count:
                    continue
                size, turned = _as_a_copy(scene.frame.basis @ placed.world[:3, :3] * metre)
                key = id(mesh), (turned.round(6) + 0.0).tobytes()
                if key not in made:
                    made[key] = self._of(mesh, turned, missing)
                found = made[key]
                if found is None:
                    notes.append(
                        self.note("has no width or no height and gets no card", kind="finding", node=placed.node.name)
                    )
                    continue
                number_behind, last = _last_level(asset, placed)
                count = last.drawn.triangle_count if last.drawn is not None else 0
                if found[0].triangle_count >= count:
                    text = f"gets no card: it has {count_of(count, 'triangle')} as it is"
                    notes.append(self.note(text, kind="finding", node=placed.node.name))
                    continue
                card, facts = found
                facts = {key: float(f"{one * size if key in _LENGTHS else one:.6g}") for key, one in facts.items()}
                behind.setdefault(number_behind, []).append(self._node(asset, placed, siblings, card, facts, last))
        if behind:
            notes.insert(0, self.note(f"{count_of(sum(map(len, behind.values())), 'card')} made"))
        notes += [
            self.note(f"textures of '{name}' are missing or damaged, and not on the card", kind="lost")
            for name in missing
        ]
        return with_nodes_behind(scene, behind, {}).with_notes(*notes)

    def _node(
        self, asset: Asset, placed: Placed, siblings: Siblings, mesh: Mesh, facts: dict[str, float], last: Node
    ) -> Node:
        level = level_of(last) + 1
        name = self.names.replace("{name}", placed.node.name).replace("{level}", str(level))
        # No nearer than the level before it.
        known = last.properties.get("distance", 0.0)
        away = max(facts["distance"], float(known) if isinstance(known, int | float) else 0.0)
        height = facts["screen_height"] * facts["distance"] / away
        properties = {"asset": asset.name, "level": level, "triangles": mesh.triangle_count, "planes": self.planes}
        properties |= facts
        properties |= {"distance": away, "screen_height": float(f"{height:.6g}")}
        return siblings.beside(placed, mesh, name, "level", properties, visible=placed.node.visible)

    def _of(
        self, mesh: Mesh, turned: NDArray[np.float64], missing: dict[str, None]
    ) -> tuple[Mesh, dict[str, float]] | None:
        """The card of a mesh that ``turned`` brings into metres, left, up and forward, and what is known of it."""
        corners, face = mesh.surface(triangulate)
        if not len(corners) or abs(determinant(turned)) < 1e-300:
            return None
        points = mesh.points @ turned.T
        triangles = mesh.corner_point[corners]
        used = points[triangles.ravel()]
        low, high = used.min(axis=0), used.max(axis=0)
        span = high - low
        side = self.facing == "side" or (self.facing == "auto" and span[2] > span[0])
        paint = _paint(mesh, corners, face, missing)
        views = upright_views(points, triangles, self.planes, first=math.pi / 2 * side)
        if not views:
            return None
        longest = max(max(view.size) for view in views)
        texel = longest / self.pixels
        image, spans = side_by_side([view.portrait(triangles, paint, texel) for view in views])
        # Through the middle of what is seen from above and below it.
        middle = (low + high) / 2
        uv = [(u, v) for u0, v0, u1, v1 in spans for u, v in ((u0, v0), (u1, v0), (u1, v1), (u0, v1))]
        flat = np.concatenate([view.rectangle(middle) for view in views])
        order = np.arange(len(flat), dtype=np.int32)
        if determinant(turned) < 0:
            order = order.reshape(-1, 4)[:, ::-1].ravel()
        quads = order.reshape(-1, 4)
        both = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)
        # From the mesh to its card only: much of a card is nothing.
        off = Surface(flat, both).nearest(sampled(points, triangles.astype(np.int32), _PLACES).position)[0]
        name = f"{mesh.name}_card"
        texture = Texture(f"{_UNSAFE.sub('_', name)}.png", data=pixels.png_of(image))
        material = Material(name, alpha_mode="mask", alpha_cutoff=0.5, two_sided=True)
        material = material.with_textures({"base_color": TextureUse(texture, clamp=True)})
        card = Mesh.taking(
            name,
            flat @ np.linalg.inv(turned).T,
            np.arange(0, len(order) + 1, 4, dtype=np.int32),
            order,
            (Layer.taking("uv", np.array(uv, np.float32), order),),
            slots=(material,),
        )
        off[off < 1e-9 * longest] = 0.0
        largest = float(off.max())
        facts = {
            "deviation": largest,
            "deviation_95": float(np.quantile(off, 0.95)),
            "deviation_mean": float(off.mean()),
            "distance": distance_of(max(largest, texel), self.pixel_error, self.picture_height, self.field_of_view),
        }
        facts["screen_height"] = float(span.max()) / (
            2 * facts["distance"] * math.tan(math.radians(self.field_of_view) / 2)
        )
        return card, facts


def _as_a_copy(linear: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
    """How large a transform makes things, and the transform without that and without its turn about the vertical.

    Copies that are turned about the vertical and of other sizes get one card. Whole quarters of a turn stay, so that
    what stands along the axes of the world is looked at along these.
    """
    size = float(np.cbrt(abs(determinant(linear)))) or 1.0
    level = np.hypot(linear[0], linear[2])
    k = int(np.argmax(level >= level.max() * (1 - 1e-9)))
    angle = math.atan2(linear[2, k], linear[0, k])
    angle -= round(angle / (math.pi / 2)) * (math.pi / 2)
    if abs(angle) < 1e-12:
        return size, linear / size
    c, s = math.cos(angle), math.sin(angle)
    return size, np.array([(c, 0, s), (0, 1, 0), (-s, 0, c)]) @ linear / size


def _last_level(asset: Asset, placed: Placed) -> tuple[int, Node]:
    """The number of the node that a further level stands behind, and the last level there is, or the mesh itself."""
    levels = [placed, *(one for one in asset.rest if one.node.role == "level")]
    last = max(levels, key=lambda one: (level_of(one.node), one.number))
    return max(one.number for one in levels if one.parent == placed.parent), last.node


def _paint(mesh: Mesh, corners: NDArray[np.int32], face: NDArray[np.int32], missing: dict[str, None]) -> Paint:
    """What the triangles of a mesh look like."""
    slot = mesh.slot_of_face[face]
    uvs = np.zeros((len(corners), 3, 2))
    colors = np.ones((len(corners), 3, 4))
    texture, cutoff = np.full(len(corners), -1, np.int32), np.full(len(corners), -1.0, np.float32)
    images: list[NDArray[np.uint8]] = []
    own_colors = mesh.layers_of("color")
    if own_colors:
        values = own_colors[0].at_corners(1.0)[corners]
        colors[..., : values.shape[2]] = values
    for number, material in enumerate(mesh.slots):
        here = slot == number
        if material is None or not here.any():
            continue
        colors[here] *= material.base_color
        if material.alpha_mode != "opaque":
            cutoff[here] = material.alpha_cutoff if material.alpha_mode == "mask" else _SEE_THROUGH
        try:
            found = painted(material)
        except (OSError, pixels.ImageError):
            missing[material.name] = None
            continue
        if found is None or found[1].uv_set >= len(mesh.uv_sets):
            continue
        image, use = found
        texture[here] = len(images)
        images.append(image)
        uvs[here] = placed_uvs(mesh.uv_sets[use.uv_set].at_corners(0.0)[corners[here]], use)
    return Paint(uvs.astype(np.float32), colors.astype(np.float32), texture, cutoff, images)
