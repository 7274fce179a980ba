"""What differs between two scenes, whatever frames they are in."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter import pixels
from zesty_otter.audit.copies import copies_apart
from zesty_otter.audit.corners import Slack, corners_of, differences
from zesty_otter.audit.lights import light_differences
from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Material, Mesh, Scatter, Scene, TextureUse, count_of, expanded
from zesty_otter.shading import with_all_normals
from zesty_otter.steps import Reframe, Roles

_PIVOT = 1e-5  # metres that a pivot may be off by

_ALIKE = 0.05  # share of the size that bounds may differ by for nodes to be the same one
_PLACES = 20_000  # to measure at, on each of two meshes

Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Differs:
    """A node that is in both scenes: what of it changed.

    Lengths are in metres, or in units where not both scenes know their unit.

    Parameters
    ----------
    node : str
    renamed : str
        Its name in the second scene, where that is another.
    moved, moved_mean : float
        The farthest that any place of one surface is from the other, and the average.
    moved_at : (3,) tuple of float or None
        Where it is farthest, in the axes of the first scene.
    size_before, size_after : (3,) tuple of float
    triangles_before, triangles_after : int
    changes : tuple of str
        In words: role, counts, slots, UV sets, corners.
    """

    node: str
    renamed: str
    moved: float
    moved_mean: float
    moved_at: Triple | None
    size_before: Triple
    size_after: Triple
    triangles_before: int
    triangles_after: int
    changes: tuple[str, ...]

    @property
    def same(self) -> bool:
        """Whether nothing but rounding differs."""
        return not self.renamed and not self.changes and self.moved <= 1e-6 * max(*self.size_before, 1e-9)


@dataclass(frozen=True)
class Comparison:
    """Two scenes side by side.

    Parameters
    ----------
    added, removed : tuple of str
        Names of nodes that only the second, or only the first scene has.
    nodes : tuple of Differs
        Those that both have.
    materials, lights : tuple of str
        What changed of materials, and of lights and cameras, in words.
    unit_known : bool
        Whether lengths are metres.
    """

    added: tuple[str, ...]
    removed: tuple[str, ...]
    nodes: tuple[Differs, ...]
    materials: tuple[str, ...]
    lights: tuple[str, ...]
    unit_known: bool

    @property
    def moved(self) -> float:
        """The farthest that any surface moved."""
        return max((one.moved for one in self.nodes), default=0.0)

    def within(self, tolerance: float) -> bool:
        """Whether nothing was added, removed or changed, and no surface moved farther than a length.

        Parameters
        ----------
        tolerance : float
            In metres, or in units where not both scenes know their unit.

        Returns
        -------
        bool

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> scene = zo.Scene.from_mesh(sail)
        >>> zo.audit.compare(scene, scene).within(0.001)
        True
        """
        changed = self.added or self.removed or self.materials or self.lights
        return not changed and all(one.moved <= tolerance and not one.changes for one in self.nodes)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for JSON.

        Returns
        -------
        dict

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> scene = zo.Scene.from_mesh(sail)
        >>> zo.audit.compare(scene, scene).as_dict()["moved"]
        0.0
        """
        return {**asdict(self), "moved": self.moved}


@dataclass(frozen=True, eq=False)
class _Shown:
    """A node with a mesh: where it is, and its triangles in the frame both scenes share."""

    path: tuple[str, ...]
    role: str
    mesh: Mesh
    points: NDArray[np.float64]
    world: NDArray[np.float64]
    copies: Scatter | None = None

    @property
    def name(self) -> str:
        return self.path[-1]

    @property
    def box(self) -> NDArray[np.float64]:
        used = self.points[self.mesh.point_used]
        return np.stack([used.min(axis=0), used.max(axis=0)])


def compare(before: Scene, after: Scene) -> Comparison:
    """Compare two scenes, read from any formats.

    Both are brought into the axes of the first and into metres where both know their unit. Nodes are matched by path,
    then by name, then by their bounds.

    Parameters
    ----------
    before, after : Scene

    Returns
    -------
    Comparison

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> larger = zo.apply(scene, zo.steps.Scale(factor=1.5))
    >>> zo.audit.compare(scene, larger).nodes[0].size_after
    (3.0, 4.5, 0.0)
    """
    known = before.frame.unit is not None and after.frame.unit is not None
    unit = "m" if known else None
    axes = " ".join(before.frame.axes)
    if _scatters(before) != _scatters(after):
        # What is nodes in one is nodes in both.
        before, after = expanded(before)[0], expanded(after)[0]
    one, other = (Roles().apply(Reframe(axes=axes, unit=unit).apply(scene)) for scene in (before, after))
    old, new = _shown(one), _shown(other)
    pairs = _matched(old, new)
    matched_old, matched_new = {id(a) for a, _ in pairs}, {id(b) for _, b in pairs}
    return Comparison(
        tuple(b.name for b in new if id(b) not in matched_new),
        tuple(a.name for a in old if id(a) not in matched_old),
        tuple(_differs(a, b, " m" if known else " units") for a, b in pairs),
        tuple(_materials(one.materials, other.materials)),
        tuple(light_differences(one, other)),
        known,
    )


def _scatters(scene: Scene) -> bool:
    return any(isinstance(one.node.content, Scatter) for one in scene.walk())


def _shown(scene: Scene) -> list[_Shown]:
    """Every node that draws a mesh; of a scatter the first copy stands for the mesh."""
    found = []
    for placed in scene.walk():
        mesh, content = placed.node.drawn, placed.node.content
        if mesh is None or not mesh.face_count:
            continue
        world, copies = placed.world, content if isinstance(content, Scatter) else None
        if copies is not None and copies.count:
            world = world @ copies.transforms[0]
        points = mesh.points @ world[:3, :3].T + world[:3, 3]
        found.append(_Shown(placed.path, placed.node.role, mesh, points, world, copies))
    return found


def _matched(old: list[_Shown], new: list[_Shown]) -> list[tuple[_Shown, _Shown]]:
    """Nodes that are the same one: by path, else by name, else by bounds; in the order of the first."""
    pairs: dict[int, _Shown] = {}
    free = list(new)
    for key in (_by_path, _by_name):
        waiting: dict[Any, list[_Shown]] = {}
        for one in free:
            waiting.setdefault(key(one), []).append(one)
        for n, one in enumerate(old):
            if n not in pairs and waiting.get(key(one)):
                pairs[n] = waiting[key(one)].pop(0)
        taken = {id(one) for one in pairs.values()}
        free = [one for one in free if id(one) not in taken]
    for n, one in enumerate(old):
        if n not in pairs and free:
            nearest = min(free, key=lambda other, one=one: _apart(one, other))  # type: ignore[misc]
            if _apart(one, nearest) < _ALIKE:
                pairs[n] = nearest
                free.remove(nearest)
    return [(old[n], pairs[n]) for n in sorted(pairs)]


def _by_path(one: _Shown) -> Any:
    return one.path


def _by_name(one: _Shown) -> Any:
    return one.name.lower()


def _apart(a: _Shown, b: _Shown) -> float:
    """How much the bounds of two nodes differ, as a share of their size; infinite for different roles."""
    if a.role != b.role:
        return float("inf")
    size = max(float(np.ptp(a.box, axis=0).max()), float(np.ptp(b.box, axis=0).max())) or 1.0
    return float(np.abs(a.box - b.box).max()) / size


def _differs(a: _Shown, b: _Shown, unit: str) -> Differs:
    moved, mean, at = _moved(a, b)
    changes = []
    if a.copies is not None or b.copies is not None:
        text, off = _copies_differ(a, b, unit)
        changes += [text] if text else []
        moved = max(moved, off)
    for what, left, right in (
        ("role", a.role, b.role),
        ("points", int(a.mesh.point_used.sum()), int(b.mesh.point_used.sum())),
        ("triangles", a.mesh.triangle_count, b.mesh.triangle_count),
        ("UV sets", len(a.mesh.uv_sets), len(b.mesh.uv_sets)),
        ("vertex colours", _color_sets(a.mesh), _color_sets(b.mesh)),
        ("slots", _slots(a.mesh), _slots(b.mesh)),
    ):
        # Formats split points at seams; that alone is no change.
        if left != right and not (what == "points" and a.mesh.triangle_count == b.mesh.triangle_count):
            changes.append(f"{what}: {left} became {right}")
    size = max(*_sides(a), 1e-9)
    apart = float(np.linalg.norm(a.world[:3, 3] - b.world[:3, 3]))
    if apart > max(_PIVOT, 1e-6 * size) and moved <= 1e-4 * size:
        changes.append(f"pivot: moved by {apart:.3g}{unit}")
    far = float(np.abs(a.box).max())
    polygons = np.array_equal(np.sort(a.mesh.face_size), np.sort(b.mesh.face_size))
    one, other = (corners_of(with_all_normals(it.mesh), it.world, triangles=not polygons) for it in (a, b))
    if _slots(a.mesh) != _slots(b.mesh):
        one = replace(one, material=np.zeros(0, object))  # said above
    # Sets that are gone are said above.
    one = replace(one, uvs=one.uvs[: len(other.uvs)], colors=one.colors[: len(other.colors)])
    changes += differences(one, other, Slack(max(1e-5 * size, 4e-7 * far)), unit)
    return Differs(
        a.name,
        b.name if b.name != a.name else "",
        moved,
        mean,
        at,
        _sides(a),
        _sides(b),
        a.mesh.triangle_count,
        b.mesh.triangle_count,
        tuple(changes),
    )


def _copies_differ(a: _Shown, b: _Shown, unit: str) -> tuple[str, float]:
    """How copies of scatters differ, in words, and how far they are apart."""
    one, other = a.copies, b.copies
    counts = [1 if copies is None else copies.count for copies in (one, other)]
    if one is None or other is None or counts[0] != counts[1]:
        return f"copies: {counts[0]:,} became {counts[1]:,}", 0.0
    if not one.count:
        return "", 0.0
    # Where the first of each stands, with what takes it to all others.
    worlds = [it.world @ np.linalg.pinv(copies.transforms[0]) for it, copies in ((a, one), (b, other))]
    off, allowed = copies_apart(one, worlds[0], other, worlds[1])
    if off <= max(allowed, 1e-5 * max(_sides(a)), 4e-7 * float(np.abs(a.box).max())):
        return "", 0.0
    return f"copies: up to {off:.3g}{unit} away, in their order", off


def _moved(a: _Shown, b: _Shown) -> tuple[float, float, Triple | None]:
    """How far two surfaces are from each other, at most and on average, and where it is most."""
    one, other = _triangles(a), _triangles(b)
    if a.points.shape == b.points.shape and np.array_equal(a.points, b.points) and np.array_equal(one, other):
        return 0.0, 0.0, None
    here, there = sampled(a.points, one, _PLACES).position, sampled(b.points, other, _PLACES).position
    away = np.concatenate([Surface(b.points, other).nearest(here)[0], Surface(a.points, one).nearest(there)[0]])
    worst = np.concatenate([here, there])[int(np.argmax(away))]
    return float(away.max()), float(away.mean()), (float(worst[0]), float(worst[1]), float(worst[2]))


def _triangles(one: _Shown) -> NDArray[np.int32]:
    corners, _ = one.mesh.surface(triangulate)
    return np.asarray(one.mesh.corner_point[corners], np.int32)


def _color_sets(mesh: Mesh) -> str:
    count = sum(1 for _ in mesh.layers_of("color"))
    return count_of(count, "set") if count else "none"


def _slots(mesh: Mesh) -> str:
    return ", ".join(slot.name for slot in mesh.slots if slot) or "none"


def _sides(one: _Shown) -> Triple:
    x, y, z = one.box[1] - one.box[0]
    return float(x), float(y), float(z)


def _materials(old: Iterable[Material], new: Iterable[Material]) -> list[str]:
    """What changed in materials of one name, and which are gone or new, in words."""
    before, after = {one.name: one for one in old}, {one.name: one for one in new}
    said = [f"{name} is gone" for name in before if name not in after]
    said += [f"{name} is new" for name in after if name not in before]
    for name in before.keys() & after.keys():
        a, b = before[name], after[name]
        parts = [
            _change(what, left, right)
            for what, left, right in (
                ("base colour", np.round(a.base_color, 3).tolist(), np.round(b.base_color, 3).tolist()),
                ("alpha", a.alpha_mode, b.alpha_mode),
                ("two-sided", a.two_sided, b.two_sided),
                ("metallic", round(a.metallic, 3), round(b.metallic, 3)),
                ("roughness", round(a.roughness, 3), round(b.roughness, 3)),
                ("emission", np.round(a.emissive, 3).tolist(), np.round(b.emissive, 3).tolist()),
                ("alpha cut-off", _cutoff(a), _cutoff(b)),
                ("textures", sorted(map(_word, a.textures)), sorted(map(_word, b.textures))),
                *_of_images(a, b),
            )
            if left != right
        ]
        if parts:
            said.append(f"{name}: {', '.join(parts)}")
    return sorted(said)


def _of_images(a: Material, b: Material) -> Iterator[tuple[str, Any, Any]]:
    """What there is to compare of the textures that both materials have."""
    for role in sorted(a.textures.keys() & b.textures.keys()):
        left, right, word = a.textures[role], b.textures[role], _word(role)
        yield f"{word} image", _image(left), _image(right)
        for what, old in _place(left).items():
            yield f"{what} of the {word} image", old, _place(right)[what]


def _word(role: str) -> str:
    return role.replace("_color", " colour")


def _change(what: str, left: Any, right: Any) -> str:
    """A change in words, with what was and is where that can be said shortly."""
    if isinstance(left, tuple):
        return f"{what} changed"
    return f"{what} {_plain(left)} became {_plain(right)}"


def _plain(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return (", " if isinstance(value[0], str) else " ").join(map(_plain, value)) if value else "none"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _cutoff(material: Material) -> float:
    return round(material.alpha_cutoff, 3) if material.alpha_mode == "mask" else 0.0


def _place(use: TextureUse) -> dict[str, Any]:
    """Where on the UVs an image lies, and how much of it counts."""
    offset, scale = np.round(use.offset, 4).tolist(), np.round(use.scale, 4).tolist()
    return {
        "UV set": use.uv_set,
        "offset": offset,
        "scale": scale,
        "rotation": round(use.rotation, 4),
        "strength": round(use.strength, 4),
        "clamping": use.clamp,
    }


def _image(use: TextureUse) -> tuple[Any, ...]:
    """What tells one image from another: its pixels, whatever file format they are in."""
    try:
        data = use.texture.read()
    except OSError:
        return ("missing",)
    try:
        image = pixels.rgba(data)
    except (pixels.ImageError, OSError):
        return (hashlib.sha256(data).hexdigest(),)
    return image.shape, hashlib.sha256(image.tobytes()).hexdigest()
