"""Small pictures of light scenes, for pages that show very many."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from zesty_otter.geometry.raster import drawing as raster
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Mesh, Scene, cofactors_of, content_bounds
from zesty_otter.model.mesh import box_of
from zesty_otter.pictures.camera import Camera, framed
from zesty_otter.pictures.palette import CLAY, FAINT, INK, PAPER, linear, rgb
from zesty_otter.pictures.view import LAMP_AT, figure_facing, figure_place, grid_of, seen_of, with_faces, with_figure
from zesty_otter.shading import with_all_normals

_VIEW = "three-quarter"
_UNMOVED = np.eye(3, 4)


def small_picture(scene: Scene, size: tuple[int, int]) -> Image.Image | None:
    """The picture of `picture`, a shaded one without words and smoothing, made in a tenth of its time.

    Parameters
    ----------
    scene : Scene
        With roles. A scene without a unit is drawn as if it were in metres.
    size : (int, int)
        Width and height in pixels.

    Returns
    -------
    Image or None
        Of mode RGBX. None where there is nothing to draw, or what it takes more to draw: textures and scattered copies.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> small_picture(zo.Scene.from_mesh(sail), (88, 56)).size
    (88, 56)
    """
    seen = [one for one in seen_of(with_faces(scene)) if np.isfinite(one.world).all()]
    meshes = [one.node.content for one in seen if isinstance(one.node.content, Mesh)]
    if not seen or scene.textures or len(meshes) < len(seen):
        return None
    basis = scene.frame.basis * (scene.frame.unit or 1.0)
    box = box_of(np.concatenate([content_bounds(one) for one in seen]) @ basis.T)
    if not float((box[1] - box[0]).max()) > 0:
        return None
    figure = figure_place(box) if scene.frame.unit is not None else None
    camera = framed(box if figure is None else with_figure(box, figure), _VIEW, size)
    # The camera looks from above, so nothing of a scene is behind the ground.
    image, depth = _paper(size).copy(), np.full((size[1], size[0]), np.inf, np.float32)
    raster.strokes(grid_of(box)[0], _placed(camera, _UNMOVED), camera.scale, camera.distance, _faint(), image)
    for one, mesh in zip(seen, meshes, strict=True):
        _put(with_all_normals(mesh), basis @ one.world[:3], camera, depth, image)
    if figure is not None:
        _put_figure(figure, camera, depth, image)
    return Image.frombuffer("RGBX", size, image, "raw", "RGBX", 0, 1)  # a mode that needs no copy


def _placed(camera: Camera, matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 4) what takes points, which a matrix (3, 4) takes to the camera's space, to its axes."""
    place = camera.axes @ matrix
    place[:, 3] -= camera.axes @ camera.target
    return place


@cache
def _paper(size: tuple[int, int]) -> NDArray[np.uint8]:
    return np.full((size[1], size[0], 4), (*rgb(PAPER), 255), np.uint8)


def _put(
    mesh: Mesh, matrix: NDArray[np.float64], camera: Camera, depth: NDArray[np.float32], image: NDArray[np.uint8]
) -> None:
    corners, face = mesh.surface(triangulate)
    layer = mesh.normals
    if not len(corners) or layer is None:
        return
    turn = cofactors_of(matrix[:, :3])
    signed = float(matrix[0, :3] @ turn[0])
    color = np.array([(*slot.base_color[:3], slot.two_sided) if slot else _clay() for slot in mesh.slots or (None,)],
                     np.float32)  # fmt: skip
    slot = mesh.slot_of_face[face] if len(mesh.slots) > 1 else np.zeros(len(face), np.int32)
    raster.put(
        (mesh.points, mesh.corner_point, corners),
        (layer.values.astype(np.float64), layer.index),
        (color, slot),
        depth,
        image,
        place=_placed(camera, matrix),
        turn=turn if signed >= 0 else -turn,
        light=LAMP_AT @ camera.axes,
        toward=camera.axes[2],
        scale=camera.scale,
        distance=camera.distance,
        mirrored=signed < 0,
    )


def _put_figure(at: NDArray[np.float64], camera: Camera, depth: NDArray[np.float32], image: NDArray[np.uint8]) -> None:
    mesh, normals, slot, axes = _figure()
    nowhere = np.zeros(3)
    raster.put(
        mesh,
        normals,
        (_unlit_ink(), slot),
        depth,
        image,
        place=_placed(camera, np.column_stack([axes, at])),
        turn=np.eye(3),
        light=nowhere,
        toward=nowhere,
        scale=camera.scale,
        distance=camera.distance,
        mirrored=False,
    )


@cache
def _figure() -> tuple[Any, Any, NDArray[np.int32], NDArray[np.float64]]:
    """What `raster.put` takes of a figure that faces the camera: mesh, normals, slots; and (3, 3) its axes."""
    camera = framed(np.array([(0.0, 0.0, 0.0), (1.0, 1.0, 1.0)]), _VIEW, (1, 1))
    flat, own = figure_facing(camera, np.zeros(3))
    corner = np.arange(len(flat), dtype=np.int32)
    nothing = np.zeros_like(corner)
    mesh, normals = (flat, corner, corner.reshape(-1, 3)), (np.zeros((1, 3)), nothing)
    return mesh, normals, nothing[::3].copy(), own[:3].T


@cache
def _clay() -> tuple[float, ...]:
    return *linear(CLAY).tolist(), 0.0


@cache
def _unlit_ink() -> NDArray[np.float32]:
    """(1, 4) the colour of ink on paper, with two sides, by what little light falls on what faces nowhere."""
    seen = 0.82 * linear(INK) + 0.18 * linear(PAPER)
    return np.array([[*(seen / (0.16, 0.17, 0.2)), 1.0]], np.float32)


@cache
def _faint() -> NDArray[np.uint8]:
    """(3,) the colour of lines on the ground."""
    mixed = (0.65 * linear(PAPER) + 0.35 * linear(FAINT)) ** (1 / 2.2)
    return (255 * mixed + 0.5).astype(np.uint8)
