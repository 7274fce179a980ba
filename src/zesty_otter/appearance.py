"""How two versions differ as pictures, from all sides, at the size they are seen."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter import pixels
from zesty_otter.geometry.raster import _pixels as columns
from zesty_otter.geometry.raster.looks import ROLES, Looks, Pages, drawn
from zesty_otter.geometry.surface.tangents import tangents
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Material, Mesh, Placed, Scatter, TextureUse, determinant
from zesty_otter.shading import painted, placed_uvs, with_all_normals

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]

SEEN = 2.3
"""The difference of two colours that an eye just tells, in CIELAB (M. Mahy, L. Van Eycken and A. Oosterlinck, 1994)."""

_PER_DEGREE = 40.0  # pixels: a picture 1,080 pixels high that fills 27 degrees
_LARGEST = 384  # pixels: what is seen larger is drawn smaller, and looked at from as much farther
_FINE = 2
_GROUND = 0.3  # the light behind what is drawn
_PLAIN = Material("plain")
_THROUGH = 0.1  # the alpha below which nothing is seen of what is blended

# Linear sRGB to CIE XYZ (IEC 61966-2-1), and that to opponent colours (A. B. Poirson and B. A. Wandell, 1993).
_TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
_TO_OPPONENT = np.array([[0.279, 0.72, -0.107], [-0.449, 0.29, -0.077], [0.086, -0.59, 0.501]])
_BLURS = (
    ((0.921, 0.0283), (0.105, 0.133), (-0.108, 4.336)),
    ((0.531, 0.0392), (0.330, 0.494)),
    ((0.488, 0.0536), (0.371, 0.386)),
)
"""What an eye blurs: for light, red against green and blue against yellow, weights and widths in degrees."""

_SIDES = [way for way in itertools.product((-1, 0, 1), repeat=3) if any(way)]


@dataclass(frozen=True, eq=False)
class Appearance:
    """How two versions differ as pictures.

    Parameters
    ----------
    share : float
        Of all pixels that either covers, from 26 sides, the share whose change an eye tells.
    worst : float
        The same of the side from which it is largest.
    side : tuple of int
        That side: left, up and forward, each -1, 0 or 1.
    height : int
        How many pixels the longest side of what is seen had.
    pictures : (H, 3 * W, 3) uint8
        From the worst side: the one, the other, and what differs.
    """

    share: float
    worst: float
    side: tuple[int, ...]
    height: int
    pictures: NDArray[np.uint8]


def appearance(
    one: Sequence[Placed],
    other: Sequence[Placed],
    basis: Floats,
    height: float,
    progress: Callable[[float], None] | None = None,
) -> Appearance:
    """Draws two versions from 26 sides, with all their maps, and compares what an eye sees.

    Parameters
    ----------
    one, other : sequence of Placed
        Nodes with meshes, at least one each.
    basis : (3, 3) float64
        From the frame of their scene to left, up and forward.
    height : float
        In pixels, that of the longest side of the first one.
    progress : callable, optional

    Returns
    -------
    Appearance

    References
    ----------
    X. Zhang and B. A. Wandell (1997), A spatial extension of CIELAB for digital color-image reproduction.

    Examples
    --------
    >>> import numpy as np
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> nodes = zo.Scene.from_mesh(sail).nodes()
    >>> appearance(nodes, nodes, np.eye(3), 100).share
    0.0
    """
    first, second = looks_of(one, basis), looks_of(other, basis)
    return compared(first, second, height, progress)


def compared(first: Looks, second: Looks, height: float, progress: Callable[[float], None] | None = None) -> Appearance:
    """As `appearance`, of what is gathered already."""
    places = first.place.reshape(-1, 3), second.place.reshape(-1, 3)
    low = np.minimum(places[0].min(axis=0), places[1].min(axis=0))
    high = np.maximum(places[0].max(axis=0), places[1].max(axis=0))
    longest = float(np.ptp(places[0], axis=0).max()) or 1.0
    pixels_high = float(np.clip(height, 8, _LARGEST))
    scale, per_degree = pixels_high / longest, _PER_DEGREE * pixels_high / max(height, 8)
    changed = seen = 0
    worst: tuple[float, tuple[int, ...], NDArray[np.uint8]] = (-1.0, (0, 0, 1), np.zeros((1, 3, 3), np.uint8))
    for number, side in enumerate(_SIDES):
        axes = _axes(np.array(side, float))
        ends = np.array(list(itertools.product(*zip(low, high, strict=True)))) @ axes.T
        span = ends.max(axis=0) - ends.min(axis=0)
        size = int(np.ceil(span[0] * scale)) + 8, int(np.ceil(span[1] * scale)) + 8
        middle = (low + high) / 2
        pair = [drawn(looks, axes, middle, scale, size, fine=_FINE, ground=_GROUND) for looks in (first, second)]
        off = difference(pair[0][0], pair[1][0], per_degree)
        covered = pair[0][1] | pair[1][1]
        told = int((off > SEEN).sum())
        count = max(int(covered.sum()), 1)
        changed, seen = changed + min(told, count), seen + count
        if told / count > worst[0]:
            worst = min(told / count, 1.0), side, _side_by_side(pair[0][0], pair[1][0], off)
        if progress is not None:
            progress((number + 1) / len(_SIDES))
    return Appearance(changed / max(seen, 1), worst[0], worst[1], round(max(height, 8)), worst[2])


def difference(one: Singles, other: Singles, per_degree: float) -> Singles:
    """(H, W) how different two pictures (H, W, 3) of linear light look, in steps of CIELAB, after the eye's blur."""
    first, second = (_lab(_blurred(image, per_degree)) for image in (one, other))
    return np.asarray(np.sqrt(((first - second) ** 2).sum(axis=2)), np.float32)


def _blurred(image: Singles, per_degree: float) -> Floats:
    """(H, W, 3) opponent colours as an eye keeps them; beyond its edge a picture goes on with the other edge."""
    from scipy import fft

    high, wide = image.shape[:2]
    opponent = np.clip(image, 0.0, 1.0) @ (_TO_OPPONENT @ _TO_XYZ).T.astype(np.float32)
    waves = fft.rfft2(opponent, axes=(0, 1))
    turns = (np.fft.fftfreq(high)[:, None] ** 2 + np.fft.rfftfreq(wide)[None] ** 2) * per_degree**2
    for channel, blurs in enumerate(_BLURS):
        kept = np.sum([weight * np.exp(-((np.pi * width) ** 2) * turns) for weight, width in blurs], axis=0)
        waves[..., channel] *= (kept / sum(weight for weight, _ in blurs)).astype(np.float32)
    return np.asarray(fft.irfft2(waves, s=(high, wide), axes=(0, 1)), np.float64)


def _lab(opponent: Floats) -> Floats:
    """(H, W, 3) CIELAB of opponent colours, with white as linear light of 1 (CIE 1976)."""
    xyz = opponent @ np.linalg.inv(_TO_OPPONENT).T / _TO_XYZ.sum(axis=1)
    root = np.where(xyz > 216 / 24389, np.cbrt(xyz), (24389 / 27 * xyz + 16) / 116)
    return np.stack(
        [116 * root[..., 1] - 16, 500 * (root[..., 0] - root[..., 1]), 200 * (root[..., 1] - root[..., 2])], axis=2
    )


def _axes(toward: Floats) -> Floats:
    toward = toward / np.linalg.norm(toward)
    helper = np.array([0.0, 1.0, 0.0]) if abs(toward[1]) < 0.99 else np.array([0.0, 0.0, 1.0])
    right = np.cross(helper, toward)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(toward, right), toward])


def _side_by_side(one: Singles, other: Singles, off: Singles) -> NDArray[np.uint8]:
    told = np.repeat(np.clip(off / (4 * SEEN), 0, 1)[..., None], 3, axis=2)
    told = np.where(off[..., None] > SEEN, 0.25 + 0.75 * told, 0.25 * told)
    shown = [pixels.bytes_of(image, linear=True) for image in (one, other)]
    return np.concatenate([*shown, (told * 255).astype(np.uint8)], axis=1)


class _Gathered:
    """Materials and images, each once."""

    def __init__(self) -> None:
        self.images: list[tuple[NDArray[np.uint8], bool]] = []
        self.known: dict[object, int] = {}
        self.rows: list[Floats] = []
        self.of: dict[int, int] = {}

    def material(self, material: Material) -> int:
        """The row of a material."""
        if id(material) not in self.of:
            self.of[id(material)] = len(self.rows)
            self.rows.append(self._row(material))
        return self.of[id(material)]

    def _row(self, material: Material) -> Floats:
        row = np.zeros(columns.COLUMNS)
        row[columns.RED : columns.RED + 3] = material.base_color[:3]
        row[columns.ROUGHNESS], row[columns.METALLIC] = material.roughness, material.metallic
        row[columns.EMISSIVE : columns.EMISSIVE + 3] = material.emissive
        row[columns.TWO_SIDED] = material.two_sided
        row[columns.TEXTURE : columns.TEXTURE + len(ROLES)] = -1
        for role, name in enumerate(ROLES):
            use = use_of(material, name)
            if use is None:
                continue
            row[columns.TEXTURE + role] = self._image(material, name, use)
            usual = {"roughness": "g", "metallic": "b"}.get(name, "r")
            row[columns.CHANNEL + role] = "rgba".index(use.channel or usual)
            if name in ("normal", "occlusion"):
                row[columns.STRENGTH if name == "normal" else columns.DARKENS] = use.strength
        return row

    def _image(self, material: Material, role: str, use: TextureUse) -> int:
        alpha = material.textures.get("alpha") if role == "base_color" else None
        key = id(use.texture), use.clamp, None if alpha is None else (id(alpha.texture), alpha.channel)
        if key not in self.known:
            try:
                found = painted(material) if role == "base_color" else (pixels.rgba(use.texture.read()), use)
            except (OSError, pixels.ImageError):
                found = None
            self.known[key] = -1 if found is None else len(self.images)
            if found is not None:
                self.images.append((np.ascontiguousarray(found[0]), use.clamp))
        return self.known[key]


def use_of(material: Material, role: str) -> TextureUse | None:
    """How a material uses the map of a role; colour and transparency are one."""
    use = material.textures.get(role)
    return material.textures.get("alpha") if use is None and role == "base_color" else use


def looks_of(placed: Sequence[Placed], basis: Floats) -> Looks:
    """Everything that says what some nodes look like, in left, up and forward.

    Parameters
    ----------
    placed : sequence of Placed
        Nodes with meshes, at least one.
    basis : (3, 3) float64
        From the frame of their scene.
    """
    gathered = _Gathered()
    parts: list[tuple[Floats, Singles, Singles, Singles, NDArray[np.int32], Singles]] = []
    for one in placed:
        mesh, content = one.node.drawn, one.node.content
        if mesh is None or not mesh.face_count:
            continue
        worlds = [one.world]
        if isinstance(content, Scatter):
            worlds = [one.world @ transform for transform in content.transforms]
        own = _arrays(mesh, gathered)
        for world in worlds:
            linear = basis @ world[:3, :3]
            mirrored = determinant(linear) < 0
            turn = np.linalg.inv(linear).T if abs(determinant(linear)) > 1e-300 else linear
            place = own[0] @ linear.T + basis @ world[:3, 3]
            normal, tangent, uv = own[1] @ turn.T, own[2][..., :3] @ linear.T, own[3]
            normal /= np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-30)
            tangent /= np.maximum(np.linalg.norm(tangent, axis=2, keepdims=True), 1e-30)
            sign = own[2][:, 0, 3] * (-1 if mirrored else 1)
            if mirrored:
                place, normal, tangent, uv = place[:, ::-1], normal[:, ::-1], tangent[:, ::-1], uv[:, :, ::-1]
            flat = np.concatenate([tangent.reshape(-1, 9), sign[:, None]], axis=1)
            parts.append(
                (place, _single(normal, 9), _single(flat, 10), uv.reshape(len(uv), len(ROLES), 6), own[4], own[5])
            )
    place, normals, tangent_rows, uvs, material, cutoff = (
        np.concatenate(column) for column in zip(*parts, strict=True)
    )
    return Looks(
        place, normals, tangent_rows, np.ascontiguousarray(uvs, np.float32), material, np.array(gathered.rows), cutoff,
        Pages.of(gathered.images),
    )  # fmt: skip


def _single(values: Floats, wide: int) -> Singles:
    return np.ascontiguousarray(values.reshape(-1, wide), np.float32)


def _arrays(mesh: Mesh, gathered: _Gathered) -> tuple[Floats, Floats, Floats, Singles, NDArray[np.int32], Singles]:
    """Of each triangle places, normals, tangents, UVs (T, 6, 3, 2) by role, material and cut-off."""
    corners, face = mesh.surface(triangulate)
    shaded = with_all_normals(mesh)
    assert shaded.normals is not None
    normal = shaded.normals.values[shaded.normals.index[corners]].astype(np.float64)
    slot = mesh.slot_of_face[face]
    uv = np.zeros((len(corners), len(ROLES), 3, 2), np.float32)
    material, cutoff = np.zeros(len(corners), np.int32), np.full(len(corners), -1.0, np.float32)
    normal_set = None
    for number in np.unique(slot):
        own = mesh.slots[number] or _PLAIN
        mine = slot == number
        material[mine] = gathered.material(own)
        if own.alpha_mode != "opaque":
            cutoff[mine] = own.alpha_cutoff if own.alpha_mode == "mask" else _THROUGH
        for role, name in enumerate(ROLES):
            use = use_of(own, name)
            if use is None or use.uv_set >= len(mesh.uv_sets):
                continue
            uv[mine, role] = placed_uvs(mesh.uv_sets[use.uv_set].at_corners(0.0)[corners[mine]], use)
            normal_set = use.uv_set if name == "normal" else normal_set
    tangent = np.zeros((len(corners), 3, 4))
    tangent[..., 3] = 1.0
    if normal_set is not None:
        layers = mesh.layers_of("tangent")
        if layers and not layers[0].has_holes:
            tangent = layers[0].values[layers[0].index[corners]].astype(np.float64)
        else:
            values, index = tangents(
                mesh.points, mesh.corner_point, corners, shaded.normals.at_corners(),
                mesh.uv_sets[normal_set].at_corners(),
            )  # fmt: skip
            tangent = values[index[corners]].astype(np.float64)
    return mesh.points[mesh.corner_point[corners]], normal, tangent, uv, material, cutoff
