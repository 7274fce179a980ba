"""Where textures lie on UVs, as matrices; and placed UVs, for formats that cannot place textures."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Layer, Material, Mesh, Note, Scene, TextureUse, shortened

Matrix = NDArray[np.float64]
"""(2, 3): what UVs become, ``matrix[:, :2] @ uv + matrix[:, 2]``."""


def matrix_of(use: TextureUse) -> Matrix:
    """What a use makes of UVs: scaled, then rotated, then moved."""
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    wide, high = use.scale
    return np.array([[c * wide, -s * high, use.offset[0]], [s * wide, c * high, use.offset[1]]])


def is_placed(use: TextureUse) -> bool:
    """Whether a use makes anything of UVs."""
    return use.offset != (0.0, 0.0) or use.scale != (1.0, 1.0) or use.rotation != 0.0


def placed_by(use: TextureUse, matrix: Matrix) -> TextureUse | None:
    """The use that makes this of UVs; None where it takes shear, which uses do not have."""
    right, up = matrix[:, 0], matrix[:, 1]
    wide, high = math.hypot(*right), math.hypot(*up)
    if abs(float(right @ up)) > 1e-9 * max(wide * high, 1e-300):
        return None
    turned = math.atan2(right[1], right[0]) if wide else math.atan2(-up[0], up[1])
    high = math.copysign(high, math.cos(turned) * up[1] - math.sin(turned) * up[0])
    offset = float(matrix[0, 2]), float(matrix[1, 2])
    return replace(use, scale=(wide, high), rotation=turned, offset=offset)


def in_uvs(scene: Scene, maker: str) -> tuple[Scene, list[Note]]:
    """The scene with every place of a texture moved into the UVs, and notes on textures that lie elsewhere now."""
    notes: list[Note] = []
    places = {
        id(one): _place(one, maker, notes) for one in scene.materials if any(map(is_placed, one.textures.values()))
    }
    if not places:
        return scene, []
    meshes = scene.map_meshes(lambda mesh: _placed(mesh, places))

    def plain(material: Material) -> Material:
        if id(material) not in places:
            return material
        uses = {
            role: replace(use, offset=(0.0, 0.0), scale=(1.0, 1.0), rotation=0.0)
            for role, use in material.textures.items()
        }
        return material.with_textures(uses)

    return meshes.map_materials(plain), notes


def with_one_set(scene: Scene, maker: str, title: str, *, textured: bool) -> tuple[Scene, list[Note]]:
    """The scene with one UV set for each mesh, that of the colour's texture, and notes on what is lost by it.

    ``textured`` says whether there is a place for textures.
    """
    many = [mesh for mesh in scene.meshes if len(mesh.uv_sets) > 1]
    if not many:
        return scene, []
    names = shortened(one.name for one in many)
    notes = [Note("lost", f"{title} has one UV set; the others are left out of {names}", maker)]
    materials = {id(slot): slot for mesh in many for slot in mesh.slots if slot is not None and textured}
    for material in materials.values():
        kept = _seen_set(material)
        lost = [role.replace("_color", " colour") for role, use in material.textures.items() if use.uv_set != kept]
        if lost:
            text = f"material '{material.name}': {', '.join(lost)} would lie on a UV set that is left out"
            notes.append(Note("lost", text, maker))

    def on_first(material: Material) -> Material:
        if all(use.uv_set == 0 for use in material.textures.values()):
            return material
        return material.with_textures({role: replace(use, uv_set=0) for role, use in material.textures.items()})

    return scene.map_meshes(_on_one_set).map_materials(on_first), notes


def _seen_set(material: Material | None) -> int:
    """The number of the UV set that most of what is seen lies on."""
    uses = material.textures if material is not None else {}
    use = uses.get("base_color") or next(iter(uses.values()), None)
    return 0 if use is None else use.uv_set


def _on_one_set(mesh: Mesh) -> Mesh:
    sets = mesh.uv_sets
    if len(sets) < 2:
        return mesh
    chosen = np.array([_seen_set(slot) for slot in mesh.slots or (None,)])
    chosen[chosen >= len(sets)] = 0
    if (chosen == chosen[0]).all():
        kept = sets[chosen[0]]
    else:
        # Each corner has the row of its own set.
        starts = np.cumsum([0, *(len(one.values) for one in sets[:-1])])
        corner = np.repeat(chosen[mesh.slot_of_face], mesh.face_size)
        index = np.stack([one.index for one in sets])[corner, np.arange(len(corner))]
        index = np.where(index >= 0, index + starts[corner], -1)
        kept = Layer.taking("uv", np.concatenate([one.values for one in sets]), index.astype(np.int32), sets[0].name)
    first = sets[0]
    layers = [kept if one is first else one for one in mesh.layers if one.kind != "uv" or one is first]
    return mesh.replace(layers=tuple(layers))


def moved_uvs(mesh: Mesh, matrix: Matrix) -> Mesh:
    """The mesh with its first UV set moved."""
    first = next(iter(mesh.uv_sets), None)
    slot = np.zeros(mesh.corner_count, np.int32)
    return mesh.replace(layers=tuple(_moved(one, slot, [matrix]) if one is first else one for one in mesh.layers))


def _place(material: Material, maker: str, notes: list[Note]) -> dict[int, Matrix]:
    """What becomes of each UV set under a material; the texture of the colour says it where several differ."""
    found: dict[int, Matrix] = {}
    for role, use in sorted(material.textures.items(), key=lambda item: item[0] != "base_color"):
        matrix = found.setdefault(use.uv_set, matrix_of(use))
        if not np.allclose(matrix, matrix_of(use), rtol=0, atol=1e-9):
            text = f"material '{material.name}': its {role} texture lies where its others lie, not elsewhere as before"
            notes.append(Note("lost", text, maker))
    return found


def _placed(mesh: Mesh, places: dict[int, dict[int, Matrix]]) -> Mesh:
    of_slot = [places.get(id(slot), {}) if slot is not None else {} for slot in mesh.slots]
    if not any(of_slot):
        return mesh
    slot = np.repeat(mesh.slot_of_face, mesh.face_size)
    moved = {
        id(layer): _moved(layer, slot, [place.get(number) for place in of_slot])
        for number, layer in enumerate(mesh.uv_sets)
    }
    return mesh.replace(layers=tuple(moved.get(id(one), one) for one in mesh.layers))


def _moved(layer: Layer, slot: NDArray[np.int32], matrices: list[Matrix | None]) -> Layer:
    """A UV set, moved differently under each slot."""
    if all(one is None for one in matrices):
        return layer
    table = np.array([np.eye(2, 3) if one is None else one for one in matrices])
    there = layer.index >= 0
    key = layer.index[there].astype(np.int64) * len(table) + slot[there]
    pairs, rows = np.unique(key, return_inverse=True)
    row, which = np.divmod(pairs, len(table))
    values = np.einsum("nij,nj->ni", table[which, :, :2], layer.values[row]) + table[which, :, 2]
    index = np.full(len(layer.index), -1, np.int32)
    index[there] = rows
    return Layer.taking("uv", values.astype(np.float32), index, layer.name)
