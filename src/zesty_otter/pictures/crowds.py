"""Thousands of copies in one picture: each with as much detail as its size in the picture can show."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.model import Material, Mesh
from zesty_otter.pictures.camera import Camera
from zesty_otter.pixels import ImageError
from zesty_otter.shading import painted
from zesty_otter.steps.lighter import HeavyMesh

TRIANGLES = 1_200_000
"""How many triangles all scatters of a picture may have together before copies are drawn lighter."""

_STEPS = (4, 16, 64)  # how much lighter than the mesh each version is
_PIXELS = 6.0  # to a triangle
_CROSS = 4  # triangles of the lightest version
MOST = 500_000
"""How many copies of a scatter are drawn in a crowd."""


def lighter_copies(
    mesh: Mesh, worlds: NDArray[np.float64], camera: Camera, basis: NDArray[np.float64], budget: int
) -> Iterator[tuple[Mesh, NDArray[np.float64]]]:
    """Meshes with the transforms (N, 4, 4) of the copies that they stand for.

    Parameters
    ----------
    mesh : Mesh
    worlds : (N, 4, 4) float64
        Where its copies are, in the space of the scene.
    camera : Camera
    basis : (3, 3) float64
        From there to the space of the camera.
    budget : int
        How many triangles all copies may have together, about.

    Yields
    ------
    mesh : Mesh
        It, lighter versions of it, or two crossed rectangles of its mean colour where it is only some pixels large.
    worlds : (K, 4, 4) float64
    """
    if len(worlds) > MOST:
        worlds = worlds[np.linspace(0, len(worlds) - 1, MOST).astype(np.int64)]
    wanted = _wanted(mesh, worlds, camera, basis)
    total = float(wanted.sum())
    if total > budget:
        wanted *= budget / total
    sizes = [mesh.triangle_count, *(mesh.triangle_count // step for step in _STEPS)]
    sizes = [one for one in sizes if one > 3 * _CROSS] or sizes[:1]
    # Each takes the lightest version that has nearly what it wants.
    bounds = np.array([0.7 * one for one in sizes[1:]] + [0.7 * min(sizes[-1], 3 * _CROSS)])
    kind = np.searchsorted(-bounds, -wanted)
    lighter = [mesh]
    if len(sizes) > 1 and (kind > 0).any():
        lighter += list(HeavyMesh(mesh, limit=1.0).lightened(sizes[1:]))
    lighter.append(_cross(mesh))
    for number, version in enumerate(lighter):
        copies = np.flatnonzero(kind == number)
        if len(copies):
            yield version, worlds[copies]


def _wanted(mesh: Mesh, worlds: NDArray[np.float64], camera: Camera, basis: NDArray[np.float64]) -> NDArray[np.float64]:
    """(N,) how many triangles can be told apart of each copy; hardly any of one that is outside of the picture."""
    low, high = mesh.surface_bounds
    places = (worlds[:, :3, :3] @ ((low + high) / 2) + worlds[:, :3, 3]) @ basis.T
    seen = camera.seen(places)
    metre = abs(float(np.linalg.det(basis))) ** (1 / 3)
    size = np.cbrt(np.abs(np.linalg.det(worlds[:, :3, :3]))) * float(np.linalg.norm(high - low)) * metre
    pixels = camera.scale * seen[:, 3] * size
    return np.clip(pixels**2 / _PIXELS, 1.0, mesh.triangle_count)


def _cross(mesh: Mesh) -> Mesh:
    """Two rectangles that cross, as large as the mesh and of its mean colour."""
    low, high = mesh.surface_bounds
    middle, half = (low + high) / 2, (high - low) / 2
    longest = int(np.argmax(half))
    points, faces = [], []
    for axis in (k for k in range(3) if k != longest):
        # What is drawn as a full rectangle is narrower than the box of most things.
        for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            point = middle.copy()
            point[axis] += 0.7 * a * half[axis]
            point[longest] += b * half[longest]
            points.append(point)
        faces.append([len(points) - 4 + k for k in range(4)])
    return Mesh.from_faces(mesh.name, points, faces).replace(slots=(_mean(mesh),))


def _mean(mesh: Mesh) -> Material:
    """A material of the mean colour of a mesh."""
    areas, _ = face_areas_and_normals(mesh.points, mesh.face_start, mesh.corner_point)
    weights = np.bincount(mesh.slot_of_face, areas, len(mesh.slots))
    colors = np.array([_color(one) for one in mesh.slots])
    mean = weights @ colors / weights.sum() if weights.sum() > 0 else colors.mean(axis=0)
    red, green, blue = np.clip(mean, 0.0, 1.0).tolist()
    return Material("far", base_color=(red, green, blue, 1.0), two_sided=True)


def _color(material: Material | None) -> NDArray[np.float64]:
    """The mean colour of a material with its texture, as amounts of light."""
    if material is None:
        return np.array([0.8, 0.8, 0.8])
    own = np.array(material.base_color[:3], np.float64)
    try:
        found = painted(material, 64)
    except (OSError, ImageError):
        found = None
    if found is None:
        return own
    image = found[0].reshape(-1, 4).astype(np.float64) / 255
    seen = image[image[:, 3] > 0.5, :3] if (image[:, 3] > 0.5).any() else image[:, :3]
    return np.asarray(own * (seen**2.2).mean(axis=0))
