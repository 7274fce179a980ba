"""Surfaces to lay out, and measures of UVs that share nothing with ours."""

from __future__ import annotations

import numpy as np

import zesty_otter as zo
from zesty_otter.geometry import triangulate


def quads(rows: int, columns: int, *, around: bool = False) -> np.ndarray:
    """(F, 4) the faces of a grid of points, closed along its columns, and along its rows too, or open."""
    wide = columns if around else columns - 1
    row, column = np.divmod(np.arange((rows - 1) * wide), wide)
    after = (column + 1) % columns
    return np.stack([row * columns + column, row * columns + after, (row + 1) * columns + after,
                     (row + 1) * columns + column], axis=1)  # fmt: skip


def terrain(count: int, roughness: float = 0.1) -> zo.Mesh:
    """A noisy square of quads, 1 m a side."""
    x, y = np.meshgrid(np.linspace(0, 1, count), np.linspace(0, 1, count))
    rng = np.random.default_rng(5)
    height = np.zeros_like(x)
    for wave in (2, 4, 8, 16):
        a, b, turn = rng.normal(size=3)
        height += np.sin(np.pi * wave * (a * x + b * y) + turn) * roughness / wave
    points = np.stack([x.ravel(), y.ravel(), height.ravel()], axis=1)
    return zo.Mesh.from_faces("terrain", points, quads(count, count))


def torus(around: int = 48, tube: int = 24) -> zo.Mesh:
    u, v = np.meshgrid(np.arange(around + 1) * 2 * np.pi / around, np.arange(tube) * 2 * np.pi / tube, indexing="ij")
    points = np.stack([(1 + 0.3 * np.cos(v)) * np.cos(u), (1 + 0.3 * np.cos(v)) * np.sin(u), 0.3 * np.sin(v)], axis=-1)
    faces = quads(around + 1, tube, around=True) % (around * tube)
    return zo.Mesh.from_faces("torus", points[:-1].reshape(-1, 3), faces)


def sphere(count: int = 32) -> zo.Mesh:
    """A ball of rows and columns, with triangles at its poles."""
    polar = np.arange(1, count) * np.pi / count
    turn = np.arange(2 * count) * np.pi / count
    p, t = np.meshgrid(polar, turn, indexing="ij")
    points = np.stack([np.sin(p) * np.cos(t), np.sin(p) * np.sin(t), np.cos(p)], axis=-1).reshape(-1, 3)
    wide, low = 2 * count, (count - 2) * 2 * count
    faces = [list(face[::-1]) for face in quads(count - 1, wide, around=True)]
    faces += [[len(points), k, (k + 1) % wide] for k in range(wide)]
    faces += [[len(points) + 1, low + (k + 1) % wide, low + k] for k in range(wide)]
    return zo.Mesh.from_faces("ball", np.concatenate([points, [(0, 0, 1), (0, 0, -1)]]), faces)


def tube(segments: int = 16, rings: int = 1, name: str = "tube") -> zo.Mesh:
    """A cylinder with both lids, each one polygon."""
    turn = 2 * np.pi * np.arange(segments) / segments
    ring = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    points = np.concatenate([np.c_[ring, np.full(segments, z)] for z in np.linspace(0, 2, rings + 1)])
    faces = [list(face) for face in quads(rings + 1, segments, around=True)]
    faces += [list(range(segments))[::-1], list(range(rings * segments, (rings + 1) * segments))]
    return zo.Mesh.from_faces(name, points, faces)


def triangles_of(mesh: zo.Mesh, number: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """(T, 3, 3) places and (T, 3, 2) UVs of its triangles."""
    corners, _ = mesh.surface(triangulate)
    return mesh.points[mesh.corner_point[corners]], mesh.uv_sets[number].at_corners()[corners].astype(float)


def signed(uv: np.ndarray) -> np.ndarray:
    one, other = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return (one[:, 0] * other[:, 1] - one[:, 1] * other[:, 0]) / 2


def l2_stretch(place: np.ndarray, uv: np.ndarray) -> float:
    """Equation 2 and 3 of Sander (2001), from partial derivatives, with the scale that makes it least."""
    area = np.linalg.norm(np.cross(place[:, 1] - place[:, 0], place[:, 2] - place[:, 0]), axis=1) / 2
    s, t = uv[..., 0], uv[..., 1]
    along, across = np.zeros((len(uv), 3)), np.zeros((len(uv), 3))
    for k in range(3):
        along += place[:, k] * (t[:, k - 2] - t[:, k - 1])[:, None]
        across += place[:, k] * (s[:, k - 1] - s[:, k - 2])[:, None]
    square = (along**2 + across**2).sum(axis=1) / (2 * signed(uv)) ** 2 / 2
    return float(np.sqrt((square * area).sum() / area.sum() * np.abs(signed(uv)).sum() / area.sum()))


def covered(uv: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """(H, W) how many triangles cover the middle of each pixel."""
    counts = np.zeros((size[1], size[0]), int)
    for triangle in uv * size:
        low = np.maximum(np.floor(triangle.min(axis=0) - 0.5).astype(int), 0)
        high = np.minimum(np.ceil(triangle.max(axis=0) + 0.5).astype(int), np.array(size) - 1)
        x, y = np.meshgrid(np.arange(low[0], high[0] + 1) + 0.5, np.arange(low[1], high[1] + 1) + 0.5)
        sides = []
        for k in range(3):
            (ax, ay), (bx, by) = triangle[k], triangle[k - 2]
            sides.append((bx - ax) * (y - ay) - (by - ay) * (x - ax))
        inner = (np.array(sides) > 1e-6).all(axis=0) | (np.array(sides) < -1e-6).all(axis=0)
        counts[low[1] : high[1] + 1, low[0] : high[0] + 1] += inner
    return counts


def island_count(mesh: zo.Mesh, number: int = 0) -> int:
    """How many pieces the UVs are in: corners hang together in a face, and by their row of values."""
    parent = list(range(len(mesh.uv_sets[number].values)))

    def root(n: int) -> int:
        while parent[n] != n:
            n = parent[n]
        return n

    index = mesh.uv_sets[number].index
    for first, stop in zip(mesh.face_start, mesh.face_start[1:], strict=False):
        for corner in range(first + 1, stop):
            parent[root(index[corner])] = root(index[first])
    return len({root(n) for n in index})
