"""The same scene in another frame, with nothing left over on any node."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import UnknownUnitError
from zesty_otter.model.frame import Frame
from zesty_otter.model.mesh import Layer, Mesh
from zesty_otter.model.scene import Camera, Content, Light, Node, Scene


def reframed(scene: Scene, frame: Frame) -> Scene:
    """The scene with its axes and unit changed to ``frame``.

    Every position, direction, orientation and winding changes; no node is given a rotation or scale. A
    node that had none before has none after.

    Raises
    ------
    UnknownUnitError
        When ``frame`` has a unit and the scene's is unknown.
    """
    if frame.unit is not None and scene.frame.unit is None:
        raise UnknownUnitError(
            "the file does not say how long its unit is.",
            file=scene.source,
            remedy="Say it with --unit (mm, cm, m, in, ft or a number of metres), unit= in Python.",
        )
    matrix = scene.frame.matrix_to(frame)
    if np.array_equal(matrix, np.eye(3)):
        return replace(scene, frame=frame)
    rotation = frame.basis.T @ scene.frame.basis

    def move(node: Node) -> Node:
        # Conjugation by axis swaps is exact, and the scale cancels out of it: an identity stays one.
        transform = np.eye(4)
        transform[:3, :3] = rotation @ node.transform[:3, :3] @ rotation.T
        transform[:3, 3] = matrix @ node.transform[:3, 3]
        return replace(node, transform=transform, content=turned_content(node.content, rotation))

    moved = scene.map_meshes(lambda mesh: _reframed_mesh(mesh, matrix, rotation)).map_nodes(move)
    return replace(moved, frame=frame)


def turned_content(content: Content | None, linear: NDArray[np.float64]) -> Content | None:
    """A light or camera with its directions turned; anything else as it is."""
    if isinstance(content, Light):
        return replace(content, direction=_turned(linear, content.direction))
    if isinstance(content, Camera):
        return replace(content, direction=_turned(linear, content.direction), up=_turned(linear, content.up))
    return content


def _turned(linear: NDArray[np.float64], direction: tuple[float, float, float]) -> tuple[float, float, float]:
    turned = linear @ np.array(direction)
    x, y, z = turned / max(float(np.linalg.norm(turned)), 1e-300)
    return float(x), float(y), float(z)


def _reframed_mesh(mesh: Mesh, matrix: NDArray[np.float64], rotation: NDArray[np.float64]) -> Mesh:
    mirrors = np.linalg.det(rotation) < 0
    layers = tuple(_reframed_layer(layer, rotation, mirrors) for layer in mesh.layers)
    changed = mesh.replace(points=mesh.points @ matrix.T, layers=layers)
    return changed.turned_round() if mirrors else changed


def _reframed_layer(layer: Layer, rotation: NDArray[np.float64], mirrors: bool) -> Layer:
    if layer.kind not in ("normal", "tangent"):
        return layer
    values = layer.values.copy()
    values[:, :3] = layer.values[:, :3] @ rotation.T.astype(np.float32)
    if layer.kind == "tangent" and mirrors:
        values[:, 3] *= -1
    return Layer(layer.kind, values, layer.index, layer.name)
