"""What is in a scene: the facts people look for before they do anything with a file."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.findings import Finding
from zesty_otter.audit.footing import CollisionFacts, collision_facts
from zesty_otter.audit.sizes import SizeGuess, size_guesses
from zesty_otter.model import (
    Camera,
    Light,
    Mesh,
    Node,
    Note,
    Placed,
    Scatter,
    Scene,
    Texture,
    content_bounds,
    default_names,
    determinant,
    seen_bounds,
)
from zesty_otter.steps.measures import LevelFacts, level_facts


@dataclass(frozen=True)
class FaceCounts:
    triangles: int
    quads: int
    ngons: int
    largest: int


@dataclass(frozen=True)
class NodeFacts:
    """One node: its place in the tree and what it shows.

    ``size`` is (width, height, depth) in the scene's unit; ``copies`` how often it shows its mesh, more than
    once for a scatter, which ``triangles`` and ``points`` count; ``leftover`` names the parts of its own
    transform other than a translation.
    """

    path: tuple[str, ...]
    visible: bool
    role: str
    mesh: str | None
    size: tuple[float, float, float] | None
    faces: FaceCounts | None
    triangles: int
    points: int
    copies: int
    slots: tuple[str, ...]
    uv_sets: int
    uv_names: tuple[str, ...]
    kind: str
    about: str
    leftover: tuple[str, ...]


@dataclass(frozen=True)
class MaterialFacts:
    name: str
    alpha_mode: str
    two_sided: bool
    textures: tuple[str, ...]


@dataclass(frozen=True)
class TextureFacts:
    """A texture: ``found`` is its path, ``embedded``, or None when it is missing."""

    name: str
    found: str | None
    wanted: str
    looked_in: tuple[str, ...]


@dataclass(frozen=True)
class Survey:
    """What `survey` found. Sizes are (width, height, depth) in the scene's unit.

    Parameters
    ----------
    name : str
    source : str
        The file it comes from.
    axes : str
    right_handed : bool
    unit : float or None
        In metres; None when nobody knows.
    size : (float, float, float) or None
        Of what is seen; None where nothing is.
    lowest : (float, float, float) or None
    highest : (float, float, float) or None
    guesses : tuple of SizeGuess
        What its size would be in the usual units; none where the unit is known.
    nodes : tuple of NodeFacts
    meshes : int
        How many distinct ones.
    faces : FaceCounts
    triangles : int
    points : int
    loose_points : int
        Points that no face uses.
    has_normals : bool
    has_smoothing : bool
    has_colors : bool
    levels : tuple of LevelFacts
    collision : tuple of CollisionFacts
    materials : tuple of MaterialFacts
    textures : tuple of TextureFacts
    clashing_names : tuple of str
        Names that several nodes have.
    default_names : tuple of str
        Names that nobody seems to have chosen.
    bounds : tuple of (str, (float, float, float))
        Nodes with the role of bounds and their sizes, which stand for their assets.
    notes : tuple of Note
    findings : tuple of Finding
        What checks object to, where they were asked.
    """

    name: str
    source: str
    axes: str
    right_handed: bool
    unit: float | None
    size: tuple[float, float, float] | None
    lowest: tuple[float, float, float] | None
    highest: tuple[float, float, float] | None
    guesses: tuple[SizeGuess, ...]
    nodes: tuple[NodeFacts, ...]
    meshes: int
    faces: FaceCounts
    triangles: int
    points: int
    loose_points: int
    has_normals: bool
    has_smoothing: bool
    has_colors: bool
    levels: tuple[LevelFacts, ...]
    collision: tuple[CollisionFacts, ...]
    materials: tuple[MaterialFacts, ...]
    textures: tuple[TextureFacts, ...]
    clashing_names: tuple[str, ...]
    default_names: tuple[str, ...]
    bounds: tuple[tuple[str, tuple[float, float, float]], ...]
    notes: tuple[Note, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def counted(self) -> str:
        """How many triangles are seen, and how many there are where that is more, in words."""
        return triangles_in_words(sum(one.triangles for one in self.nodes if one.role == "visible"), self.triangles)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for JSON.

        Returns
        -------
        dict of str to object

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> zo.audit.survey(zo.Scene.from_mesh(sail)).as_dict()["triangles"]
        1
        """
        return asdict(self)


def survey(scene: Scene) -> Survey:
    """Say what is in a scene.

    Counts of faces, triangles and points are of what is placed: a mesh shown by three nodes counts three
    times.

    Parameters
    ----------
    scene : Scene

    Returns
    -------
    Survey

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> found = survey(zo.Scene.from_mesh(sail))
    >>> found.triangles, found.size
    (1, (2.0, 3.0, 0.0))
    """
    placed = list(scene.walk())
    nodes = tuple(node_facts(one, scene) for one in placed)
    shown = [(mesh, _copies(one.node)) for one in placed if (mesh := one.node.drawn) is not None]
    box = seen_bounds(scene)
    known = bool(np.isfinite(box).all())
    size = scene.frame.sides(box) if known else None
    return Survey(
        name=scene.name,
        source=str(scene.source or ""),
        axes=" ".join(scene.frame.axes),
        right_handed=scene.frame.right_handed,
        unit=scene.frame.unit,
        size=size,
        lowest=_triple(box[0]) if known else None,
        highest=_triple(box[1]) if known else None,
        guesses=tuple(size_guesses(size, 1)) if size and scene.frame.unit is None else (),
        nodes=nodes,
        meshes=len(scene.meshes),
        faces=_total(shown),
        triangles=sum(count * mesh.triangle_count for mesh, count in shown),
        points=sum(count * mesh.point_count for mesh, count in shown),
        loose_points=sum(count * int((~mesh.point_used).sum()) for mesh, count in shown),
        has_normals=any(mesh.normals for mesh, _ in shown),
        has_smoothing=any(mesh.face_smoothing is not None for mesh, _ in shown),
        has_colors=any(mesh.layers_of("color") for mesh, _ in shown),
        levels=level_facts(scene),
        collision=collision_facts(scene),
        materials=tuple(
            MaterialFacts(m.name, m.alpha_mode, m.two_sided, tuple(use.texture.name for use in m.textures.values()))
            for m in scene.materials
        ),
        textures=tuple(TextureFacts(t.name, _where(t), t.wanted, tuple(map(str, t.looked_in))) for t in scene.textures),
        clashing_names=(
            *clashing([one.node.name for one in placed]),
            *(f"material {name}" for name in clashing([material.name for material in scene.materials])),
        ),
        default_names=default_names(scene),
        bounds=tuple((one.path[-1], one.size) for one in nodes if one.role == "bounds" and one.size),
        notes=scene.notes,
        findings=_on_levels(scene),
    )


def _on_levels(scene: Scene) -> tuple[Finding, ...]:
    if not any(placed.node.role == "level" for placed in scene.walk()):
        return ()
    from zesty_otter.audit.checks import of_levels  # which looks at much more

    return tuple(of_levels(scene))


def triangles_in_words(seen: int, total: int) -> str:
    """What is seen, and everything where that is more."""
    return f"{seen:,}, {total:,} with levels, collision and so on" if 0 < seen < total else f"{total:,}"


def clashing(names: list[str]) -> tuple[str, ...]:
    """Names that are the same when case is ignored, each spelling once."""
    counts = Counter(name.lower() for name in names)
    return tuple(dict.fromkeys(name for name in names if counts[name.lower()] > 1))


_UNTURNED = np.eye(3)
_AS_ROWS = _UNTURNED.tolist()


def leftover(transform: NDArray[np.float64]) -> tuple[str, ...]:
    """The parts of a transform that a clean node does not have: rotation, scale, mirror, shear."""
    linear = transform[:3, :3]
    if linear.tolist() == _AS_ROWS or float(np.abs(linear - _UNTURNED).max()) <= 1e-9:
        return ()
    gram = linear.T @ linear
    lengths = np.sqrt(np.diag(gram))
    parts = []
    if not np.allclose(lengths, 1.0, rtol=0, atol=1e-9):
        parts.append("scale")
    if determinant(linear) < 0:
        parts.append("mirror")
    if not np.allclose(gram, np.diag(lengths**2), rtol=0, atol=1e-9 * max(float(lengths.max()) ** 2, 1e-300)):
        parts.append("shear")
    elif not np.allclose(linear, np.diag(np.diag(linear)), rtol=0, atol=1e-9 * float(lengths.max())):
        parts.append("rotation")
    return tuple(parts)


def node_facts(placed: Placed, scene: Scene) -> NodeFacts:
    """What there is to say of one node."""
    node, mesh = placed.node, placed.node.drawn
    box = None if mesh is None else content_bounds(placed)
    copies = _copies(node)
    return NodeFacts(
        path=placed.path,
        visible=placed.visible,
        role=node.role,
        mesh=None if mesh is None else mesh.name,
        size=None if box is None or not np.isfinite(box).all() else scene.frame.sides(box),
        faces=None if mesh is None else mesh.cached(_face_counts),
        triangles=0 if mesh is None else mesh.triangle_count * copies,
        points=0 if mesh is None else mesh.point_count * copies,
        copies=copies,
        slots=() if mesh is None else tuple(slot.name if slot else "(none)" for slot in mesh.slots),
        uv_sets=0 if mesh is None else len(mesh.uv_sets),
        uv_names=() if mesh is None else tuple(layer.name for layer in mesh.uv_sets),
        kind=node.kind,
        about=_about(node),
        leftover=leftover(node.transform),
    )


def shown_faces(node: Node) -> tuple[int, FaceCounts, int]:
    """How many triangles a node shows, the faces of its mesh, and how often it shows them."""
    mesh, copies = node.drawn, _copies(node)
    if mesh is None:
        return 0, FaceCounts(0, 0, 0, 0), copies
    return mesh.triangle_count * copies, mesh.cached(_face_counts), copies


def _about(node: Node) -> str:
    """What a light or camera is, in words; "" for all else."""
    content = node.content
    if isinstance(content, Light):
        return f"{content.kind} light, {content.intensity:.4g} {'lx' if content.kind == 'directional' else 'cd'}"
    if isinstance(content, Camera):
        wide = f"{math.degrees(content.height):.3g}° high" if content.perspective else "without perspective"
        return f"camera, {wide}"
    return ""


def _copies(node: Node) -> int:
    """How often a node shows its mesh."""
    return node.content.count if isinstance(node.content, Scatter) else int(node.mesh is not None)


def _where(texture: Texture) -> str | None:
    """Where a texture was found, None when it was not."""
    if texture.path is not None:
        return str(texture.path)
    return "embedded" if texture.data is not None else None


def _face_counts(mesh: Mesh) -> FaceCounts:
    if mesh.all_triangles:
        return FaceCounts(mesh.face_count, 0, 0, 3 if mesh.face_count else 0)
    of_size = np.bincount(mesh.face_size, minlength=5)
    return FaceCounts(int(of_size[3]), int(of_size[4]), int(of_size[5:].sum()), len(of_size) - 1)


def _total(meshes: list[tuple[Mesh, int]]) -> FaceCounts:
    each = [(mesh.cached(_face_counts), count) for mesh, count in meshes]
    return FaceCounts(
        sum(count * one.triangles for one, count in each),
        sum(count * one.quads for one, count in each),
        sum(count * one.ngons for one, count in each),
        max((one.largest for one, _ in each), default=0),
    )


def _triple(values: NDArray[np.float64]) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])
