"""A file taken by a strict receiver of its format, and compared corner by corner with what the reader took it for."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.corners import Corners, Slack, corners_of, differences, end_to_end
from zesty_otter.model import Material, Mesh, Placed, Scene, count_of, expanded
from zesty_otter.rehearsal.receivers import Faces, RefusedError, UnknownFormError, take

_FLOAT = float(np.finfo(np.float32).eps)


def second_reading(path: Path, scene: Scene) -> tuple[str, tuple[str, ...]]:
    """What a strict receiver says of a file.

    Parameters
    ----------
    path : Path
    scene : Scene
        As the reader read it.

    Returns
    -------
    said : str
        In a few words.
    problems : tuple of str
        How the file breaks its specification, or where the receiver sees something else than the reader.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> second_reading(Path("sail.glb"), zo.read("sail.glb"))
    ('the same at all 3 corners', ())
    """
    if any(note.maker == "pieces" for note in scene.notes):
        return "not done, as pieces are in other files", ()
    try:
        faces = take(path)
    except UnknownFormError as error:
        return f"not done, as it does not know {error}", ()
    except RefusedError as error:
        return "refused", (f"a strict receiver refuses the file: {error}",)
    meant, count = _of_scene(scene), count_of(len(faces.points), "corner")
    if meant.face_count != len(faces.sizes):
        return "differs", (f"a strict receiver sees {len(faces.sizes):,} faces, not {meant.face_count:,}",)
    if not meant.face_count:
        return "nothing to see", ()
    seen = _of_faces(faces, path, with_uvs=bool(meant.uvs), with_colors=bool(meant.colors))
    slack = Slack(16 * _FLOAT * max(float(np.abs(faces.points).max()), 1e-30), angle=0.5, uv=1e-4, color=0.006)
    unit = " m" if scene.frame.unit == 1.0 else " units"
    problems = tuple(f"a strict receiver sees it otherwise: {text}" for text in differences(meant, seen, slack, unit))
    return ("differs" if problems else f"the same at all {count}"), problems


def _of_scene(scene: Scene) -> Corners:
    shown = [_looked_up(placed, mesh) for placed, mesh in expanded(scene)[0].placed_meshes() if placed.visible]
    return end_to_end([one for one in shown if one.face_count] or [_nothing()])


def _nothing() -> Corners:
    return Corners(np.zeros((0, 3)), np.zeros(1, np.int64), None)


def _looked_up(placed: Placed, mesh: Mesh) -> Corners:
    """The corners of a mesh with the UVs at which the texture of their colour is looked up."""
    corners = corners_of(mesh, placed.world, triangles=False)
    if not corners.uvs:
        return corners
    uvs = corners.uvs[0].astype(np.float64)
    of_corner = np.repeat(mesh.slot_of_face, mesh.face_size)
    for number, material in enumerate(mesh.slots):
        own = of_corner == number
        if material is not None and own.any():
            uvs[own] = _moved([one[own] for one in corners.uvs], material)
    return Corners(
        corners.points, corners.start, corners.normals, [uvs.astype(np.float32)], corners.colors[:1], corners.material
    )


def _moved(uvs: list[NDArray[np.float32]], material: Material) -> NDArray[np.float64]:
    use = material.textures.get("base_color")
    if use is None:
        return uvs[0].astype(np.float64)
    own = uvs[min(use.uv_set, len(uvs) - 1)].astype(np.float64)
    cos, sin = np.cos(use.rotation), np.sin(use.rotation)
    return np.asarray((own * use.scale) @ np.array([(cos, sin), (-sin, cos)]) + use.offset)


def _of_faces(faces: Faces, path: Path, *, with_uvs: bool, with_colors: bool) -> Corners:
    has_normals = not np.isnan(faces.normals).all()
    plain = "plain" if path.suffix.lower() == ".obj" else ""  # what stands for no material in OBJ files of ours
    names = np.array(["" if name == plain else " ".join(name.split()) for name in faces.names], object)
    return Corners(
        faces.points,
        faces.start,
        faces.normals if has_normals else None,
        [np.nan_to_num(faces.uvs).astype(np.float32)] if with_uvs else [],
        [np.nan_to_num(faces.colors, nan=1.0).astype(np.float32)] if with_colors else [],
        names[faces.material],
    )
