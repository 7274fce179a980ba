"""Small pictures of light scenes, for pages that show very many."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from zesty_otter.geometry.raster import drawing as raster
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Mesh, Scene, content_bounds
from zesty_otter.model.mesh import box_of
from zesty_otter.pictures.camera import framed
from zesty_otter.pictures.palette import CLAY, FAINT, INK, PAPER, linear, rgb
from zesty_otter.pictures.view import LAMP_AT, figure_facing, figure_place, grid_step, seen_of, with_faces, with_figure
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
    view = np.array((*camera.axes.ravel().tolist(), *camera.target.tolist(), camera.scale, camera.distance))
    raster.ground(box, grid_step(box), _UNMOVED, view, _faint(), image)
    for one, mesh in zip(seen, meshes, strict=True):
        _put(with_all_normals(mesh), basis @ one.world[:3], view, depth, image)
    if figure is not None:
        turned, shape, normals, colors = _figure()
        placed = turned.copy()
        placed[:, 3] = figure
        raster.put(shape, normals, colors, placed, view, LAMP_AT, depth, image)
    return Image.frombuffer("RGBX", size, image, "raw", "RGBX", 0, 1)  # a mode that needs no copy


@cache
def _paper(size: tuple[int, int]) -> NDArray[np.uint8]:
    return np.full((size[1], size[0], 4), (*rgb(PAPER), 255), np.uint8)


def _put(
    mesh: Mesh,
    matrix: NDArray[np.float64],
    view: NDArray[np.float64],
    depth: NDArray[np.float32],
    image: NDArray[np.uint8],
) -> None:
    corners, face = mesh.surface(triangulate)
    layer = mesh.normals
    if not len(corners) or layer is None:
        return
    color = [(*slot.base_color[:3], slot.two_sided) if slot else _clay() for slot in mesh.slots or (None,)]
    slot = mesh.slot_of_face[face] if len(mesh.slots) > 1 else np.zeros(len(face), np.int32)
    raster.put(
        (mesh.points, mesh.corner_point, corners),
        (layer.values, layer.index),
        (np.array(color, np.float32), slot),
        matrix,
        view,
        LAMP_AT,
        depth,
        image,
    )


@cache
def _figure() -> tuple[NDArray[np.float64], Any, Any, Any]:
    """(3, 4) what turns a figure to the camera, and what `raster.put` takes of it: mesh, normals, colours."""
    camera = framed(np.array([(0.0, 0.0, 0.0), (1.0, 1.0, 1.0)]), _VIEW, (1, 1))
    flat, own = figure_facing(camera, np.zeros(3))
    corner = np.arange(len(flat), dtype=np.int32)
    nothing = np.zeros_like(corner)
    mesh, normals = (flat, corner, corner.reshape(-1, 3)), (np.zeros((1, 3), np.float32), nothing)
    return own.T.copy(), mesh, normals, (_unlit_ink(), nothing[::3].copy())


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
