"""What meshes mean to look like: normals that smoothing groups imply, and images of more than one map."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter import pixels
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import continuous_edges, filled_normals, normals_over_soft_edges
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Layer, Material, Mesh, TextureUse


def with_normals(mesh: Mesh, values: NDArray[np.float32], index: NDArray[np.int32]) -> Mesh:
    """The mesh with these normals in place of its own."""
    made = Layer.taking("normal", values, index)
    if mesh.normals is None:
        return mesh.replace(layers=(*mesh.layers, made))
    return mesh.replace(layers=tuple(made if layer is mesh.normals else layer for layer in mesh.layers))


def with_points(mesh: Mesh, points: NDArray[np.float64]) -> Mesh:
    """The mesh with its points elsewhere, and normals made anew over the edges that were smooth."""
    moved = mesh.replace(points=points)
    if mesh.normals is None:
        return moved
    edges = mesh.surface(topology)
    own = mesh.normals
    soft = continuous_edges(mesh.face_start, mesh.corner_point, edges, own.values, own.index, tolerance=1e-4)
    return with_normals(moved, *normals_over_soft_edges(points, mesh.face_start, mesh.corner_point, edges, soft))


def with_all_normals(mesh: Mesh) -> Mesh:
    """The mesh with a normal at every corner: its own, else from smoothing groups, else that of the face."""
    own = mesh.normals
    if own is not None and not own.has_holes:
        return mesh
    arrays = mesh.points, mesh.face_start, mesh.corner_point, mesh.surface(join_points)
    kept = None if own is None else (own.values, own.index)
    return with_normals(mesh, *filled_normals(*arrays, mesh.face_smoothing, kept))


def with_implied_normals(mesh: Mesh) -> Mesh:
    """As `with_all_normals`, but a mesh that says nothing of its shading is left without."""
    says_nothing = mesh.normals is None and mesh.face_smoothing is None
    return mesh if says_nothing else with_all_normals(mesh)


def placed_uvs(uvs: NDArray[Any], use: TextureUse) -> NDArray[np.float64]:
    """UVs (N, 2) as a material scales, turns and moves them."""
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    return np.asarray((uvs * np.array(use.scale)) @ np.array([[c, s], [-s, c]]) + use.offset)


def unplaced_uvs(uvs: NDArray[Any], use: TextureUse) -> NDArray[np.float64]:
    """The UVs that a material places at some (N, 2); those of a texture without size are all 0."""
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    scale = np.array(use.scale)
    straight = (uvs - np.array(use.offset)) @ np.array([[c, -s], [s, c]])
    return np.asarray(np.where(scale != 0, straight / np.where(scale != 0, scale, 1.0), 0.0))


def alpha_channel(use: TextureUse, values: NDArray[Any]) -> int:
    """Which channel of an image (H, W, 4) says how transparent: as told, else its alpha, else its lightness."""
    return "rgba".index(use.channel or ("a" if float(values[..., 3].min()) < 1 else "r"))


def painted(material: Material, largest: int | None = None) -> tuple[NDArray[np.uint8], TextureUse] | None:
    """The maps of colour and transparency as one image (H, W, 4), and how it is used; None when there is neither.

    Raises
    ------
    OSError, pixels.ImageError
        When one cannot be read; `FileNotFoundError` when it is missing.
    """
    color, alpha = material.textures.get("base_color"), material.textures.get("alpha")
    use = color or alpha
    if use is None:
        return None
    image = pixels.rgba(use.texture.read(), largest)
    if alpha is None:
        return image, use
    data = alpha.texture.read()
    channel = alpha.channel or ("a" if pixels.has_alpha(data) else "l")
    if color is None:
        image = np.full_like(image, 255)
    return pixels.with_alpha(image, data, channel), use
