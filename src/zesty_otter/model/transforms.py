"""Matrices moved into the data: frames changed and transforms baked, with nothing left over on any node."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model.frame import Frame
from zesty_otter.model.mesh import Layer, Mesh
from zesty_otter.model.scene import Camera, Content, Light, Node, Scatter, Scene


def reframed(scene: Scene, frame: Frame) -> Scene:
    """The scene with its axes and unit changed to ``frame``.

    Every position, direction, orientation and winding changes; no node is given a rotation or scale. A
    node that had none before has none after.

    Parameters
    ----------
    scene : Scene
    frame : Frame

    Returns
    -------
    Scene

    Raises
    ------
    UnknownUnitError
        When ``frame`` has a unit and the scene's is unknown.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> scene = zo.Scene.from_nodes(zo.Node("gate"), axes="right forward up", unit="cm")
    >>> reframed(scene, zo.Frame("left up forward", "m")).frame
    Frame(axes=('left', 'up', 'forward'), unit=1.0)
    """
    if frame.unit is not None:
        scene.unit_for("changing units")
    matrix = scene.frame.matrix_to(frame)
    if np.array_equal(matrix, np.eye(3)):
        return replace(scene, frame=frame)
    rotation = frame.basis.T @ scene.frame.basis

    def move(node: Node) -> Node:
        # Conjugation by axis swaps is exact, and the scale cancels out of it: an identity stays one.
        transform = np.eye(4)
        transform[:3, :3] = rotation @ node.transform[:3, :3] @ rotation.T
        transform[:3, 3] = matrix @ node.transform[:3, 3]
        content = node.content
        if isinstance(content, Scatter):
            transforms = np.tile(np.eye(4), (content.count, 1, 1))
            transforms[:, :3, :3] = rotation @ content.transforms[:, :3, :3] @ rotation.T
            transforms[:, :3, 3] = content.transforms[:, :3, 3] @ matrix.T
            content = replace(content, transforms=transforms)
        else:
            content = turned_content(content, rotation)
        return replace(node, transform=transform, content=content)

    moved = scene.map_meshes(lambda mesh: transformed(mesh, matrix)).map_nodes(move)
    return replace(moved, frame=frame)


def turned_content(content: Content | None, linear: NDArray[np.float64]) -> Content | None:
    """A light or camera with its directions turned, a scatter with its copies; a mesh as it is.

    Parameters
    ----------
    content : Mesh, Scatter, Light, Camera or None
    linear : (3, 3) float64
        A rotation, or one with a mirroring.

    Returns
    -------
    Mesh, Scatter, Light, Camera or None

    Examples
    --------
    >>> import numpy as np
    >>> import zesty_otter as zo
    >>> turned_content(zo.Light("directional", direction=(0, 0, -1)), np.diag([1.0, 1.0, -1.0])).direction
    (0.0, 0.0, 1.0)
    """
    if isinstance(content, Scatter):
        transforms = content.transforms.copy()
        transforms[:, :3] = linear @ content.transforms[:, :3]
        return replace(content, transforms=transforms)
    if isinstance(content, Light):
        return replace(content, direction=_turned(linear, content.direction))
    if isinstance(content, Camera):
        return replace(content, direction=_turned(linear, content.direction), up=_turned(linear, content.up))
    return content


def _turned(linear: NDArray[np.float64], direction: tuple[float, float, float]) -> tuple[float, float, float]:
    turned = linear @ np.array(direction)
    x, y, z = turned / max(float(np.linalg.norm(turned)), 1e-300)
    return float(x), float(y), float(z)


def transformed(mesh: Mesh, linear: NDArray[np.float64], offset: NDArray[np.float64] | None = None) -> Mesh:
    """The mesh with its points at ``linear @ point + offset``, and all that goes with them.

    Normals turn by the inverse transpose, tangents by the matrix itself; a mirroring matrix turns winding
    and tangent signs round. Where a flat matrix leaves nothing of a normal its corners have none.

    Parameters
    ----------
    mesh : Mesh
    linear : (3, 3) float64
    offset : (3,) float64, optional
        Zero when absent.

    Returns
    -------
    Mesh

    Examples
    --------
    >>> import numpy as np
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> transformed(sail, np.eye(3), np.array([0.0, 0.0, 5.0])).points.tolist()
    [[0.0, 0.0, 5.0], [2.0, 0.0, 5.0], [0.0, 3.0, 5.0]]
    """
    mirrors = bool(determinant(linear) < 0)
    # The matrix of cofactors turns normals as the inverse transpose does, and works when flat.
    cofactors = cofactors_of(linear)
    if mirrors:
        cofactors = -cofactors
    layers = tuple(
        _transformed_layer(one, cofactors if one.kind == "normal" else linear, mirrors) for one in mesh.layers
    )
    moved = mesh.replace(points=_moved(mesh.points, linear, offset), layers=layers)
    return moved.turned_round() if mirrors else moved


def determinant(matrix: NDArray[Any]) -> Any:
    """The determinant of a matrix, or of each of several; NumPy's own warns about the smallest numbers.

    Parameters
    ----------
    matrix : (..., n, n) float64

    Returns
    -------
    float or (...) float64
        0 only where the matrix cannot be undone, or all but not.

    Examples
    --------
    >>> import numpy as np
    >>> float(determinant(np.diag([2.0, 3.0, -1.0])))
    -6.0
    """
    if matrix.shape == (3, 3):  # a tenth of the time
        (a, b, c), (d, e, f), (g, h, i) = matrix.tolist()
        return a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)
    with np.errstate(divide="ignore", over="ignore"):
        return np.linalg.det(matrix)


def cofactors_of(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 3) the cofactors of a matrix: its inverse transpose times its determinant, there for flat ones as well.

    Parameters
    ----------
    linear : (3, 3) float64

    Returns
    -------
    (3, 3) float64

    Examples
    --------
    >>> import numpy as np
    >>> cofactors_of(np.diag([2.0, 3.0, 0.0])).round(6).tolist()
    [[0.0, 0.0, 0.0], [0.0, 0.0, 0.0], [0.0, 0.0, 6.0]]
    """
    (a, b, c), (d, e, f), (g, h, i) = linear.tolist()
    return np.array([[e * i - f * h, f * g - d * i, d * h - e * g], [h * c - i * b, i * a - g * c, g * b - h * a],
                     [b * f - c * e, c * d - a * f, a * e - b * d]])  # fmt: skip


def _moved(
    points: NDArray[np.float64], linear: NDArray[np.float64], offset: NDArray[np.float64] | None
) -> NDArray[np.float64]:
    # Column by column rather than by a matrix product, whose last bits may depend on the number of threads.
    out = np.empty((len(points), 3))
    for k in range(3):
        column = out[:, k]
        column[:] = 0.0 if offset is None else offset[k]
        for j in np.flatnonzero(linear[k]):
            column += points[:, j] * linear[k, j]
    return out


def _transformed_layer(layer: Layer, matrix: NDArray[np.float64], mirrors: bool) -> Layer:
    if layer.kind not in ("normal", "tangent"):
        return layer
    size = float(np.abs(matrix).max(initial=0.0))
    unit = matrix / size if size > 0 else matrix
    values = layer.values.copy()
    values[:, :3] = layer.values[:, :3] @ unit.T.astype(np.float32)
    index = layer.index
    if not np.allclose(unit @ unit.T, np.eye(3), rtol=0, atol=1e-12):
        length = np.sqrt(np.einsum("ij,ij->i", values[:, :3], values[:, :3]))
        values[:, :3] /= np.where(length > 0, length, np.float32(1.0))[:, None]
        if len(length) and length.min() <= 0:
            index = np.where((length > 0)[index] & (index >= 0), index, -1).astype(np.int32)
    if layer.kind == "tangent" and mirrors:
        values[:, 3] *= -1
    return Layer.taking(layer.kind, values, index, layer.name)
