"""One picture of a scene."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from zesty_otter.geometry.queries.near import nearest
from zesty_otter.geometry.raster import drawing as raster
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.vectors import cross
from zesty_otter.model import Material, Mesh, Placed, Scatter, Scene, content_bounds, determinant, format_length
from zesty_otter.pictures.camera import Camera, framed
from zesty_otter.pictures.crowds import MOST, TRIANGLES, lighter_copies
from zesty_otter.pictures.edges import KINDS, edge_kinds
from zesty_otter.pictures.palette import CLAY, FAINT, INK, LAMP, PAPER, PLUM, REED, RIVER, diverging, linear, rgb
from zesty_otter.pixels import ImageError
from zesty_otter.shading import painted, placed_uvs, with_all_normals
from zesty_otter.steps import Roles

if TYPE_CHECKING:
    from zesty_otter.geometry.solids.footing import Standing

STYLES = ("shaded", "maps", "wire", "both", "normals", "uv", "islands", "collision", "footing")
"""How a picture can be drawn."""

_FINE = 2  # pixels to each side of one of the picture, averaged in the end
_MOST_LINES = 2_000  # copies whose edges are drawn
FIGURE = 1.8  # metres tall
LAMP_AT = np.array([-0.45, 0.65, 0.6]) / np.linalg.norm([-0.45, 0.65, 0.6])  # right of, above and toward the camera
_MOST_STRETCH = 1.5  # what is stretched by that or more is as orange as can be


@dataclass(frozen=True)
class Look:
    """How a picture is to look.

    Parameters
    ----------
    style : str
        One of `STYLES`.
    view : str
        A side of `SIDES`.
    size : (int, int)
        Width and height in pixels.
    figure : bool
        Whether a person stands beside it, for scale.
    grid : bool
        Whether the floor has lines.
    axes : bool
        Whether the axes are drawn.
    caption : str or None
        A line above the sizes; none when None.
    words : bool
        Whether anything is written.
    perspective : bool
        Whether things far away look smaller.
    smooth : bool
        Whether edges are smoothed, which takes four times as long.
    places : int
        How many places of an asset's footing are looked at.
    """

    style: str = "shaded"
    view: str = "three-quarter"
    size: tuple[int, int] = (1280, 800)
    figure: bool = True
    grid: bool = True
    axes: bool = True
    caption: str | None = None
    words: bool = True
    perspective: bool = True
    smooth: bool = True
    places: int = 20_000


@dataclass(eq=False)
class _Drawn:
    """Triangles of all that is drawn, in metres and in the axes left, up, forward."""

    points: list[NDArray[np.float64]] = field(default_factory=list)
    uv: list[NDArray[np.float32]] = field(default_factory=list)
    normal: list[NDArray[np.float32]] = field(default_factory=list)
    texture: list[NDArray[np.int32]] = field(default_factory=list)
    cutoff: list[NDArray[np.float32]] = field(default_factory=list)
    color: list[NDArray[np.float32]] = field(default_factory=list)
    lines: dict[str, list[NDArray[np.float64]]] = field(default_factory=dict)


def picture(scene: Scene, look: Look = Look(), *, nodes: Sequence[int] | None = None) -> Image.Image:
    """A picture of what is visible in a scene, framed so that all of it is seen.

    Parameters
    ----------
    scene : Scene
        A scene without a unit is drawn as if it were in metres.
    look : Look
    nodes : sequence of int, optional
        Numbers of the nodes in the walk to draw; what is visible when absent.

    Returns
    -------
    Image
        An empty one that says so when there is nothing to draw.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> picture(zo.Scene.from_mesh(sail), Look(size=(200, 150))).size
    (200, 150)
    """
    scene = Roles().apply(scene)
    placed = with_faces(scene)
    seen = seen_of(placed) if nodes is None else [one for one in placed if one.number in set(nodes)]
    seen = [one for one in seen if np.isfinite(one.world).all()]
    if not seen:
        return _empty(look, "nothing to draw: no faces")
    made = _Picture(scene, seen, placed, look)
    if not float((made.box[1] - made.box[0]).max()) > 0:
        return _empty(look, "nothing to draw: it has no size")
    return made.image()


def with_faces(scene: Scene) -> list[Placed]:
    """The nodes of a scene that show faces."""
    return [one for one in scene.walk() if one.node.drawn is not None and one.node.drawn.face_count]


def seen_of(placed: list[Placed]) -> list[Placed]:
    """What a picture shows of nodes with faces: what is visible, else a level, else all."""
    seen = [one for one in placed if one.node.is_shown and one.visible]
    return seen or [one for one in placed if one.node.role == "level"][:1] or placed


def save(image: Image.Image) -> bytes:
    """The bytes of a PNG, the same every time.

    Parameters
    ----------
    image : PIL.Image.Image

    Returns
    -------
    bytes

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> save(picture(zo.Scene.from_mesh(sail), Look(size=(200, 150))))[:4]
    b'\x89PNG'
    """
    out = io.BytesIO()
    image.save(out, "PNG", compress_level=6)
    return out.getvalue()


@cache
def font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    """The letters of all pictures."""
    return ImageFont.load_default(size)


def _empty(look: Look, text: str) -> Image.Image:
    image = Image.new("RGB", look.size, rgb(PAPER))
    draw = ImageDraw.Draw(image)
    draw.text((look.size[0] / 2, look.size[1] / 2), text, rgb(FAINT), font(max(look.size[1] // 28, 11)), anchor="mm")
    return image


def _triangles_of(placed: Placed) -> int:
    """How many triangles all copies of a scatter have."""
    content = placed.node.content
    return content.count * content.mesh.triangle_count if isinstance(content, Scatter) else 0


class _Picture:
    def __init__(self, scene: Scene, seen: list[Placed], placed: list[Placed], look: Look) -> None:
        self.scene, self.seen, self.look = scene, seen, look
        self.metre = scene.frame.unit or 1.0
        self.basis = scene.frame.basis * self.metre
        self.fine = _FINE if look.smooth else 1
        self.size = look.size[0] * self.fine, look.size[1] * self.fine
        self.table: list[tuple[int, int, int, int]] = []
        self.pixels: list[NDArray[np.uint8]] = []
        self.known: dict[Any, int] = {}
        self.drawn = _Drawn()
        copies = [_triangles_of(one) for one in seen if isinstance(one.node.content, Scatter)]
        self.crowd = sum(copies) if sum(copies) > TRIANGLES else 0
        # What a copy can show is known once the camera is; that looks at everything.
        self.left_out = 0
        self.rough = framed(self._bounds(), look.view, self.size, perspective=look.perspective) if self.crowd else None
        for one in seen:
            self._take(one)
        self.solid = [one for one in placed if one.node.role == "collision"]
        self.points = np.concatenate(self.drawn.points)
        self.box = np.stack([self.points.reshape(-1, 3).min(axis=0), self.points.reshape(-1, 3).max(axis=0)])
        self.gap: str = ""

    def _canonical(self, points: NDArray[np.float64], one: Placed) -> NDArray[np.float64]:
        world = points @ one.world[:3, :3].T + one.world[:3, 3]
        return world @ self.basis.T

    def _take(self, one: Placed) -> None:
        mesh = one.node.drawn
        assert mesh is not None
        if not isinstance(one.node.content, Scatter):
            self._put(one, mesh, one.world[None])
            return
        worlds = one.world @ one.node.content.transforms
        if self.rough is None:
            self._put(one, mesh, worlds)
            return
        self.left_out += max(len(worlds) - MOST, 0)
        budget = int(TRIANGLES * _triangles_of(one) / self.crowd)
        for lighter, own in lighter_copies(mesh, worlds, self.rough, self.basis, budget):
            self._put(one, lighter, own)

    def _bounds(self) -> NDArray[np.float64]:
        """(2, 3) the box of all that is drawn, in metres and in the axes left, up, forward."""
        boxes = np.concatenate([content_bounds(one) for one in self.seen])
        turned = boxes[np.isfinite(boxes).all(axis=1)] @ self.basis.T
        return np.stack([turned.min(axis=0), turned.max(axis=0)])

    def _put(self, one: Placed, mesh: Mesh, worlds: NDArray[np.float64]) -> None:
        """A mesh in several places, (N, 4, 4)."""
        corners, face = mesh.surface(triangulate)
        if not len(corners):
            return
        shaded = with_all_normals(mesh)
        layer = shaded.normals
        assert layer is not None
        uvs = mesh.uv_sets[0] if mesh.uv_sets else None
        uv = np.zeros((len(corners), 6), np.float32)
        if uvs is not None:
            uv = uvs.at_corners(0.0)[corners].reshape(-1, 6).astype(np.float32)
        own = layer.values[layer.index[corners]].astype(np.float64)
        slot = mesh.slot_of_face[face] if len(mesh.slots) else np.zeros(len(face), np.int32)
        if uvs is not None and self.look.style not in ("uv", "islands"):
            _place_textures(uv, mesh, slot)
        looks = [self._material(slot_material) for slot_material in mesh.slots] or [self._material(None)]
        clay = self.look.style in ("collision", "footing")
        color = np.array([one_look[0] for one_look in looks], np.float32)[slot]
        if clay:
            color[:, :3] = linear(CLAY)
        texture = np.array([-1 if clay else one_look[1] for one_look in looks], np.int32)[slot]
        cutoff = np.array([-1.0 if clay else one_look[2] for one_look in looks], np.float32)[slot]
        if self.look.style == "islands":
            color[:, :3] = _stretch_colors(mesh, corners)
            texture[:], cutoff[:] = -1, -1.0
        edges: dict[str, NDArray[np.int32]] = {}
        if self.look.style in ("wire", "both"):
            edges = _edges_of(mesh)
        elif self.look.style == "islands" and mesh.uv_sets:
            found = _edges_of(mesh, len(mesh.uv_sets) - 1)
            edges = {kind: found[kind] for kind in ("seam", "border") if kind in found}
        if len(worlds) > _MOST_LINES:
            edges = {}
        plain = edges == {} and len(worlds) > 1
        if plain:
            self._put_many(mesh, worlds, corners, own, uv, (texture, cutoff, color))
        for world in worlds if not plain else ():
            here = Placed(one.node, world, one.path, one.number, one.parent, one.visible)
            points = self._canonical(mesh.points, here)
            matrix = self.basis @ world[:3, :3]
            turn = np.linalg.inv(matrix).T if abs(determinant(matrix)) > 1e-300 else matrix
            mirrored = determinant(matrix) < 0
            tri = points[mesh.corner_point[corners]]
            bent = own @ turn.T
            if mirrored:
                tri, bent, placed_uv = tri[:, ::-1], bent[:, ::-1], uv.reshape(-1, 3, 2)[:, ::-1].reshape(-1, 6)
            else:
                placed_uv = uv
            self.drawn.points.append(tri.reshape(-1, 9))
            self.drawn.normal.append(bent.reshape(-1, 9).astype(np.float32))
            self.drawn.uv.append(placed_uv)
            self.drawn.texture.append(texture)
            self.drawn.cutoff.append(cutoff)
            self.drawn.color.append(color)
            for kind, pairs in edges.items():
                self.drawn.lines.setdefault(kind, []).append(points[pairs].reshape(-1, 6))

    def _put_many(
        self, mesh: Mesh, worlds: NDArray[np.float64], corners: NDArray[np.int32], normals: NDArray[np.float64],
        uv: NDArray[np.float32], each: tuple[NDArray[Any], NDArray[Any], NDArray[Any]],
    ) -> None:  # fmt: skip
        """Triangles in many places at once; ``each`` has a row for each of them."""
        matrices = self.basis @ worlds[:, :3, :3]
        offsets = worlds[:, :3, 3] @ self.basis.T
        mirrored = np.linalg.det(matrices) < 0
        triangles = mesh.points[mesh.corner_point[corners]]
        flat = np.abs(np.linalg.det(matrices)) <= 1e-300
        turns = matrices.copy()
        turns[~flat] = np.linalg.inv(matrices[~flat]).transpose(0, 2, 1)
        for which, order in ((~mirrored, slice(None)), (mirrored, slice(None, None, -1))):
            count = int(which.sum())
            if not count:
                continue
            tri, bent = triangles[:, order].reshape(-1, 3), normals[:, order].reshape(-1, 3)
            placed = tri @ matrices[which].transpose(0, 2, 1) + offsets[which][:, None]
            turned = bent @ turns[which].transpose(0, 2, 1)
            self.drawn.points.append(placed.reshape(-1, 9))
            self.drawn.normal.append(turned.reshape(-1, 9).astype(np.float32))
            self.drawn.uv.append(np.tile(uv.reshape(-1, 3, 2)[:, order].reshape(-1, 6), (count, 1)))
            texture, cutoff, color = each
            self.drawn.texture.append(np.tile(texture, count))
            self.drawn.cutoff.append(np.tile(cutoff, count))
            self.drawn.color.append(np.tile(color, (count, 1)))

    def _material(self, material: Material | None) -> tuple[tuple[float, float, float, float], int, float]:
        """Colour with whether it has two sides, texture and cut-off."""
        if material is None or self.look.style == "wire":
            r, g, b = linear(PAPER if self.look.style == "wire" else CLAY)
            return (float(r), float(g), float(b), float(material.two_sided) if material else 0.0), -1, -1.0
        r, g, b, _ = material.base_color
        uses = {role: use for role, use in material.textures.items() if role in ("base_color", "alpha")}
        key = tuple((role, id(use.texture), use.channel, use.clamp, use.uv_set) for role, use in uses.items())
        if key not in self.known:
            self.known[key] = self._load(material)
        number = self.known[key]
        cutoff = (
            material.alpha_cutoff if material.alpha_mode == "mask" else 0.1 if material.alpha_mode == "blend" else -1
        )
        return (r, g, b, float(material.two_sided)), number, float(cutoff)

    def _load(self, material: Material) -> int:
        """The number of a material's image, -1 where it has none that can be shown."""
        try:
            found = painted(material, 1024)
        except (OSError, ImageError):
            return -1
        if found is None or found[1].uv_set != 0:
            return -1
        image, use = found
        first = sum(len(one) for one in self.pixels)
        self.pixels.append(image.reshape(-1))
        self.table.append((first, image.shape[1], image.shape[0], int(use.clamp)))
        return len(self.table) - 1

    def image(self) -> Image.Image:
        look = self.look
        box = self.box
        footing = self._measured() if look.style == "footing" else None
        if footing is not None:
            figure: NDArray[np.float64] | None = self._worst(footing)
        else:
            figure = figure_place(box) if look.figure and self.scene.frame.unit is not None else None
        if figure is not None:
            box = with_figure(box, figure)
        # Maps are looked up in parallel rays.
        camera = framed(box, look.view, self.size, perspective=look.perspective and look.style != "maps")
        high, wide = self.size[1], self.size[0]
        depth = np.full((high, wide), np.inf, np.float32)
        ids = np.full((high, wide), -1, np.int32)
        corner = camera.seen(self.points.reshape(-1, 3)).reshape(-1, 12)
        uv, normal = np.concatenate(self.drawn.uv), np.concatenate(self.drawn.normal)
        texture, cutoff = np.concatenate(self.drawn.texture), np.concatenate(self.drawn.cutoff)
        table = np.array(self.table or [(0, 1, 1, 0)], np.int64)
        pixels = np.concatenate(self.pixels) if self.pixels else np.zeros(4, np.uint8)
        if look.style != "maps":
            raster.fill(corner, depth, ids, uv=uv, texture=texture, cutoff=cutoff, table=table, pixels=pixels)
        out = np.empty((high, wide, 3), np.float32)
        out[0] = linear(PAPER)
        out[1:] = out[0]  # a row at a time: NumPy is slow at filling with three numbers
        if look.grid:
            self._grid(camera, depth, out)
        where = np.zeros((high, wide, 2), np.float32)
        lamp = camera.axes.T @ LAMP_AT
        mode = {"normals": 1, "uv": 2}.get(look.style, 0)
        if look.style == "maps":
            from zesty_otter.appearance import looks_of
            from zesty_otter.geometry.raster.looks import light_up

            looks = looks_of(self.seen, self.basis)
            corners = camera.seen(looks.place.reshape(-1, 3)).reshape(-1, 12)
            light_up(looks, corners, camera.axes, depth, ids, out)
            ids[:] = -1
        raster.shade(
            corner, ids, out, where, uv=uv, normal=normal, texture=texture, color=np.concatenate(self.drawn.color),
            table=table, pixels=pixels, mode=mode, light=lamp, toward=camera.axes[2],
        )  # fmt: skip
        if footing is not None:
            self._footing(footing, ids, where, out)
        if look.style in ("collision", "footing") and self.solid:
            self._collision(camera, depth, out, faint=look.style == "footing")
        bias = 2e-3 * (float(np.ptp(corner[:, 2::4])) or 1.0) if len(corner) else 0.0
        # Lines that show on dark textures too.
        ink = PAPER if look.style == "both" else INK
        for kind, color, width, hidden, dash in (
            ("edge", ink, 1.0, 0.0, 0.0), ("seam", RIVER, 2.2, 0.0, 8.0), ("hard", ink, 2.2, 0.0, 0.0),
            ("border", LAMP, 3.4, 0.0, 0.0),
        ):  # fmt: skip
            if kind in self.drawn.lines:
                self._lines(
                    camera, np.concatenate(self.drawn.lines[kind]), width, color, bias, hidden, dash, depth, out
                )
        if look.style in ("shaded", "both", "wire", "collision", "footing") and look.axes:
            self._pivots(camera, depth, out)
        if figure is not None and look.figure:
            self._figure(camera, figure, depth, out)
        return self._finished(camera, out)

    def _grid(self, camera: Camera, depth: NDArray[np.float32], out: NDArray[np.float32]) -> None:
        ends, self.step = grid_of(self.box)
        self._lines(camera, ends, 1.4, FAINT, 0.0, 0.0, 0.0, depth, out, 0.35)

    def _lines(
        self, camera: Camera, ends: NDArray[np.float64], width: float, color: str, bias: float, hidden: float,
        dash: float, depth: NDArray[np.float32], out: NDArray[np.float32], opacity: float = 0.9,
    ) -> None:  # fmt: skip
        seen = camera.seen(ends.reshape(-1, 3))[:, :3].reshape(-1, 6)
        half = self.fine / 2
        raster.lines(seen, width * half, linear(color), opacity, bias, hidden, dash * half, depth, out)

    def _pivots(self, camera: Camera, depth: NDArray[np.float32], out: NDArray[np.float32]) -> None:
        """A small cross at the pivot of every node."""
        size = 0.03 * float((self.box[1] - self.box[0]).max())
        for one in self.seen[:64]:
            at = one.world[:3, 3] @ self.basis.T
            for axis, color in zip(np.eye(3), (LAMP, REED, RIVER), strict=True):
                ends = np.concatenate([at - size * axis, at + size * axis])[None]
                self._lines(camera, ends, 2.4, color, 0.0, 0.5, 0.0, depth, out)

    def _figure(
        self, camera: Camera, at: NDArray[np.float64], depth: NDArray[np.float32], out: NDArray[np.float32]
    ) -> None:
        """A flat figure 1.8 m tall that faces us."""
        flat, place = figure_facing(camera, at)
        corners12 = camera.seen(flat @ place[:3] + place[3]).reshape(-1, 12)
        # Only where it is, as it is small.
        places = corners12.reshape(-1, 4)[:, :2]
        high, wide = depth.shape
        left, top = np.clip(np.floor(places.min(axis=0)), 0, (wide, high)).astype(int)
        right, bottom = np.clip(np.ceil(places.max(axis=0)), 0, (wide, high)).astype(int)
        if left >= right or top >= bottom:
            return
        corners12.reshape(-1, 4)[:, :2] -= np.array([left, top], np.float32)
        part = np.s_[top:bottom, left:right]
        shape = bottom - top, right - left
        own, ids = np.full(shape, np.inf, np.float32), np.full(shape, -1, np.int32)
        raster.fill(corners12, own, ids)
        ones, beneath = np.ones(len(corners12), np.float32), np.ascontiguousarray(out[part])
        raster.veil(own, ids, linear(INK), ones, 0.82, 0.25, np.ascontiguousarray(depth[part]), beneath)
        out[part] = beneath

    def _collision(self, camera: Camera, depth: NDArray[np.float32], out: NDArray[np.float32], *, faint: bool) -> None:
        """Collision over what is seen, see-through, with its edges."""
        parts, edges = [], []
        for one in self.solid:
            mesh = one.node.drawn
            if mesh is None:
                continue
            corners, _ = mesh.surface(triangulate)
            points = self._canonical(mesh.points, one)
            parts.append(points[mesh.corner_point[corners]])
            edges.append(points[mesh.surface(topology).edge_points].reshape(-1, 6))
        tri = np.concatenate(parts)
        corner = camera.seen(tri.reshape(-1, 3)).reshape(-1, 12)
        own, ids = np.full(depth.shape, np.inf, np.float32), np.full(depth.shape, -1, np.int32)
        raster.fill(corner, own, ids)
        normal = cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
        length = np.linalg.norm(normal, axis=1, keepdims=True)
        shade = (0.7 + 0.3 * np.abs(normal / np.where(length > 0, length, 1) @ camera.axes[2])).astype(np.float32)
        bias = 2e-3 * float(np.ptp(corner[:, 2::4]))
        if not faint:
            raster.veil(own - np.float32(bias), ids, linear(REED), shade, 0.42, 0.12, depth, out)
        self._lines(camera, np.concatenate(edges), 1.6, RIVER, bias, 0.25, 0.0, depth, out, 0.8)

    def _measured(self) -> Standing | None:
        """Where feet would float or sink; None when there is nothing to stand on."""
        if not self.solid:
            self.gap = "no collision"
            return None
        from zesty_otter.audit.footing import standing_on

        found = standing_on(self.scene, count=self.look.places, among={one.number for one in self.seen})
        if not len(found.place):
            self.gap = "nobody can stand here"
            return None
        self.reach = max(found.floats, found.sinks, 0.01)
        self.gap = f"feet float {_said(found.floats)}, sink {_said(found.sinks)} at most;"
        self.gap += f" in 95 of 100 places not more than {_said(found.most)}"
        if found.falls > 0.0005:
            self.gap += f"; {100 * found.falls:.2g} % fall through"
        return found

    def _worst(self, found: Standing) -> NDArray[np.float64]:
        """Where the feet of a figure on the worst place are."""
        at = found.place[found.worst or 0] / self.metre @ self.basis.T
        return np.asarray(at + (0.0, np.nan_to_num(found.gap[found.worst or 0]), 0.0))

    def _footing(
        self, found: Standing, ids: NDArray[np.int32], where: NDArray[np.float32], out: NDArray[np.float32]
    ) -> None:
        """Colours what one can stand on by how far feet would float or sink."""
        # Of every fourth pixel that one can stand on, the gap of the nearest place that was measured.
        triangles = self.points.reshape(-1, 3, 3)
        normal = cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
        rises = np.abs(normal[:, 1]) > 0.7 * np.linalg.norm(normal, axis=1)
        shown = ids[:: self.fine, :: self.fine]
        rows, columns = np.nonzero((shown >= 0) & rises[shown])
        rows, columns = rows * self.fine, columns * self.fine
        share = where[rows, columns]
        shares = np.column_stack([1 - share.sum(axis=1), share])
        place = np.einsum("nk,nkj->nj", shares, triangles[ids[rows, columns]])
        step = max(len(found.place) // max(len(place), 1), 1)  # no more places than pixels
        measured, gaps = found.place[::step] / self.metre @ self.basis.T, found.gap[::step]
        spacing = 3 * float(np.linalg.norm(self.box[1] - self.box[0])) / math.sqrt(len(measured))
        away, near = nearest(place, measured)
        met = away < spacing
        gap = gaps[near[met]]
        color = diverging(gap / self.reach) / 255.0
        color[~np.isfinite(gap)] = np.array(rgb(PLUM)) / 255.0
        light = out[rows[met], columns[met]].mean(axis=1, keepdims=True) / float(linear(CLAY).mean())
        tinted = (color**2.2 * np.clip(light, 0.55, 1.15)).astype(np.float32)
        for dy in range(self.fine):
            for dx in range(self.fine):
                out[rows[met] + dy, columns[met] + dx] = tinted

    def _finished(self, camera: Camera, out: NDArray[np.float32]) -> Image.Image:
        high = self.look.size[1]
        image = Image.fromarray(raster.finished(out, self.fine))
        draw = ImageDraw.Draw(image)
        letters = font(max(high // 50, 11))
        if self.look.axes:
            self._axes(camera, draw, letters)
        text = [self.look.caption] if self.look.caption else []
        sides = self.box[1] - self.box[0]
        unit = "" if self.scene.frame.unit else " units"
        said = " x ".join(format_length(side) if not unit else f"{side:.4g}" for side in sides)
        text.append(f"{said}{unit}" + (f", grid {format_length(self.step)}" if self.look.grid and not unit else ""))
        if self.gap:
            text.append(self.gap)
        if self.left_out:
            text.append(f"{self.left_out:,} copies more are not drawn")
        if self.look.style in ("wire", "both"):
            text.append("thick hard edge, dashed seam, orange open border")
        if self.look.style == "islands":
            text.append("dashed seam; pale keeps its lengths, orange is stretched, plum is flipped")
        for n, line in enumerate(text if self.look.words else ()):
            draw.text((12, 10 + n * (letters.size + 6)), line, rgb(INK), letters)  # type: ignore[union-attr]
        if self.look.words and self.look.style == "footing" and self.gap.startswith("feet"):
            self._legend(draw, letters)
        return image

    def _legend(self, draw: ImageDraw.ImageDraw, letters: ImageFont.FreeTypeFont | ImageFont.ImageFont) -> None:
        wide, high = self.look.size
        left, top, long = wide - 350, high - 52, 320
        for k in range(long):
            color = tuple(int(v) for v in diverging(np.array([2 * k / (long - 1) - 1]))[0])
            draw.line([(left + k, top), (left + k, top + 12)], color)
        words = (f"sinks {_said(self.reach)}", "0", f"floats {_said(self.reach)}")
        for x, anchor, word in zip((left, left + long / 2, left + long), ("la", "ma", "ra"), words, strict=True):
            draw.text((x, top + 16), word, rgb(INK), letters, anchor=anchor)

    def _axes(
        self, camera: Camera, draw: ImageDraw.ImageDraw, letters: ImageFont.FreeTypeFont | ImageFont.ImageFont
    ) -> None:
        """The axes of the file's frame, by what they mean."""
        high = self.look.size[1]
        middle, reach = np.array([0.08 * high + 74.0, high - 60.0]), 34.0
        turn = self.scene.frame.basis
        order = np.argsort([float(turn[:, k] @ camera.axes[2]) for k in range(3)])
        for k in order:
            along = camera.axes @ turn[:, k]
            end = middle + reach * np.array([along[0], -along[1]])
            color = rgb((LAMP, REED, RIVER)[k])
            draw.line([tuple(middle), tuple(end)], color, 3)
            word = f"{'XYZ'[k]} {self.scene.frame.axes[k]}"
            if math.hypot(along[0], along[1]) > 0.25:
                at = middle + (reach + 10) * np.array([along[0], -along[1]])
                anchor = "lm" if along[0] > 0.3 else "rm" if along[0] < -0.3 else "mm"
                draw.text(tuple(at), word, color, letters, anchor=anchor)


def figure_place(box: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """Where a figure stands beside a box in metres, where it is of a size that a figure can tell something of."""
    (_, y0, z0), (x1, _, z1) = box.tolist()
    largest = float((box[1] - box[0]).max())
    return np.array([x1 + 0.45 + 0.05 * largest, y0, z1 - 0.2 * (z1 - z0)]) if 0.6 < largest < 60 else None


def with_figure(box: NDArray[np.float64], figure: NDArray[np.float64]) -> NDArray[np.float64]:
    """A box that has the figure in it too."""
    (x0, y0, z0), (x1, y1, z1) = box.tolist()
    x, y, z = figure.tolist()
    low = min(x0, x - 0.3), min(y0, y), min(z0, z - 0.3)
    return np.array([low, (max(x1, x + 0.3), max(y1, y + FIGURE), max(z1, z + 0.3))])


def figure_facing(camera: Camera, at: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The corners (3 T, 3) of a flat figure, and what places them (4, 3): its axes, and where its feet are."""
    right = camera.axes[0] * (1, 0, 1)
    right = right / (math.hypot(right[0], right[2]) or 1.0)
    up = np.array([0.0, 1.0, 0.0]) if abs(camera.axes[2][1]) < 0.99 else camera.axes[1]
    return _figure_outline(), np.stack([right, up, camera.axes[2], at])


def grid_step(box: NDArray[np.float64]) -> float:
    """How far the lines of `grid_of` are from each other."""
    return float(10.0 ** math.floor(math.log10(max(float((box[1] - box[0]).max()), 1e-6) / 2)))


def grid_of(box: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """(N, 6) ends of lines on the ground below a box, a metre apart, or a tenth or ten times that; and how far."""
    (x0, y, z0), (x1, _, z1) = box.tolist()
    step = grid_step(box)
    across, along = (
        [step * k for k in range(math.floor((low - step) / step), math.ceil((top + step) / step) + 1)]
        for low, top in ((x0, x1), (z0, z1))
    )
    rows = [(x, y, along[0], x, y, along[-1]) for x in across] + [(across[0], y, z, across[-1], y, z) for z in along]
    return np.array(rows), step


def _place_textures(uv: NDArray[np.float32], mesh: Mesh, slot: NDArray[np.int32]) -> None:
    """Moves the UVs (T, 6) of triangles to where the textures of their slots are placed."""
    for number, material in enumerate(mesh.slots):
        use = material.textures.get("base_color") if material is not None else None
        if use is not None and (use.offset, use.scale, use.rotation) != ((0.0, 0.0), (1.0, 1.0), 0.0):
            rows = slot == number
            uv[rows] = placed_uvs(uv[rows].reshape(-1, 2), use).reshape(-1, 6)


@cache
def _figure_outline() -> NDArray[np.float64]:
    """(3 T, 3) the corners of the triangles of a flat figure, to its right and up from its feet."""
    angle = np.arange(20) * np.pi / 10
    head = np.stack([0.11 * np.cos(angle), 1.67 + 0.13 * np.sin(angle)], axis=1)
    half = [(0.21, 1.46), (0.26, 0.86), (0.2, 0.84), (0.15, 1.2), (0.16, 0.0), (0.03, 0.0)]
    body = np.array([*half, (0.0, 0.8), *((-x, y) for x, y in reversed(half))])
    flat = []
    for outline in (head, body):
        ends, order = np.array([0, len(outline)], np.int32), np.arange(len(outline), dtype=np.int32)
        points = np.pad(outline, ((0, 0), (0, 1)))
        corners, _ = triangulate(points, ends, order)
        flat.append(points[corners.ravel()])
    return np.concatenate(flat)


def _said(length: float) -> str:
    return "0" if length < 1e-6 else format_length(float(f"{length:.3g}"))


def _stretch_colors(mesh: Mesh, corners: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T, 3) pale where the last UV set keeps lengths, orange where it stretches them, plum where it is flipped."""
    if not mesh.uv_sets:
        return np.tile(linear(FAINT), (len(corners), 1))
    from zesty_otter.geometry.uv.sets import uv_stretch

    layer = mesh.uv_sets[-1]
    stretch = uv_stretch(mesh.points, mesh.corner_point, corners, layer.at_corners(0.0))
    share = np.clip((np.where(np.isfinite(stretch), stretch, 1.0) - 1.0) / (_MOST_STRETCH - 1.0), 0.0, 1.0)[:, None]
    color = (1 - share) * linear(PAPER) * 0.85 + share * linear(LAMP)
    return np.where(np.isfinite(stretch)[:, None], color, linear(PLUM))


def _edges_of(mesh: Mesh, uv_set: int = 0) -> dict[str, NDArray[np.int32]]:
    """The edges of its polygons by kind."""
    edges, kinds = mesh.surface(topology), edge_kinds(mesh, uv_set)
    return {kind: edges.edge_points[rows] for n, kind in enumerate(KINDS) if (rows := kinds == n).any()}
