"""The tree of placed things, and the notes of how it came to be."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import ModelError, UnknownUnitError
from zesty_otter.model.frame import Frame
from zesty_otter.model.material import Material, Texture
from zesty_otter.model.mesh import Mesh, box_of

ROLES = ("visible", "collision", "shadow", "level", "bounds", "marker", "stand-in")
"""What a node is there for."""


@dataclass(frozen=True, eq=False)
class Light:
    """A light: ``kind`` is point, spot or directional; ``direction`` is where it shines in its node's space.

    ``color`` is linear; ``intensity`` in candela (lux for directional); ``reach`` in metres, None for
    unlimited; ``cone`` the inner and outer half angles of a spot in radians.
    """

    name: str
    kind: str = "point"
    color: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    reach: float | None = None
    cone: tuple[float, float] = (0.0, 0.785398)
    direction: tuple[float, float, float] = (0.0, 0.0, -1.0)


@dataclass(frozen=True, eq=False)
class Camera:
    """A camera that looks along ``direction`` with ``up`` upward, in its node's space.

    ``height`` is the vertical field of view in radians, or the height of the picture in the scene's unit
    when ``perspective`` is false.
    """

    name: str
    perspective: bool = True
    height: float = 0.8
    aspect: float | None = None
    near: float = 0.1
    far: float | None = None
    direction: tuple[float, float, float] = (0.0, 0.0, -1.0)
    up: tuple[float, float, float] = (0.0, 1.0, 0.0)


@dataclass(frozen=True, eq=False)
class Scatter:
    """Many copies of one mesh.

    Parameters
    ----------
    mesh : Mesh
    transforms : (N, 4, 4) float64
        From the space of the mesh to that of the node.
    """

    mesh: Mesh
    transforms: NDArray[np.float64]

    def __post_init__(self) -> None:
        transforms = np.array(self.transforms, np.float64).reshape(-1, 4, 4)
        place = f"scatter of mesh {self.mesh.name}"
        if not np.isfinite(transforms).all():
            raise ModelError("a transform must be a 4 x 4 matrix of finite numbers.", place=place)
        if (transforms[:, 3] != (0.0, 0.0, 0.0, 1.0)).any():
            raise ModelError("a transform must end in the row 0 0 0 1.", place=place)
        transforms.flags.writeable = False
        object.__setattr__(self, "transforms", transforms)

    @property
    def count(self) -> int:
        """How many copies there are."""
        return len(self.transforms)

    def bounds(self, world: NDArray[np.float64]) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of all copies' surfaces under a transform; NaN when there are none."""
        points = self.mesh.cached(_outermost)
        if not len(points) or not self.count:
            return np.full((2, 3), np.nan)
        box = np.array([[np.inf] * 3, [-np.inf] * 3])
        # In blocks, because every copy has all outermost points for a while.
        step = max(1, 4_000_000 // len(points))
        for first in range(0, self.count, step):
            placed = world @ self.transforms[first : first + step]
            for k in range(3):
                values = placed[:, k, :3] @ points.T + placed[:, k, 3:]
                box[0, k], box[1, k] = min(box[0, k], values.min()), max(box[1, k], values.max())
        return box


Content = Mesh | Scatter | Light | Camera


@dataclass(frozen=True)
class Note:
    """One remark of a reader, step or writer on what it did or could not do.

    ``kind`` is ``done`` (a change that was asked for), ``guess`` (an assumption the user may correct) or
    ``lost`` (something that did not come through).
    """

    kind: str
    text: str
    maker: str = ""
    file: str = ""
    place: str = ""
    node: str = ""

    def __str__(self) -> str:
        where = ", ".join(part for part in (self.file, self.place, self.node and f"node {self.node}") if part)
        return f"{where}: {self.text}" if where else self.text


@dataclass(frozen=True)
class Renamed:
    """One line of the table of old and new names; ``kind`` is node, mesh, material or texture."""

    kind: str
    old: str
    new: str


@dataclass(frozen=True, eq=False)
class Node:
    """A place in the tree, with at most one content.

    Parameters
    ----------
    transform : (4, 4) float64
        From the node's own space to its parent's; columns of the upper left 3 x 3 are its axes.
    groups : tuple of str
        Names of the groups it belongs to.
    role : str
        One of `ROLES`.
    properties : mapping
        Free properties that travel with it.
    """

    name: str
    transform: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    children: tuple[Node, ...] = ()
    content: Content | None = None
    visible: bool = True
    groups: tuple[str, ...] = ()
    role: str = "visible"
    properties: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))

    def __post_init__(self) -> None:
        transform = np.array(self.transform, np.float64)
        place = f"node {self.name}"
        if transform.shape != (4, 4) or not np.isfinite(transform).all():
            raise ModelError("a transform must be a 4 x 4 matrix of finite numbers.", place=place)
        if not np.array_equal(transform[3], (0.0, 0.0, 0.0, 1.0)):
            raise ModelError("a transform must end in the row 0 0 0 1.", place=place)
        if self.role not in ROLES:
            raise ModelError(f"'{self.role}' is not a role.", place=place, remedy=f"Use {', '.join(ROLES)}.")
        transform.flags.writeable = False
        object.__setattr__(self, "transform", transform)

    @property
    def kind(self) -> str:
        """What it holds: mesh, scatter, light, camera or empty."""
        return "empty" if self.content is None else type(self.content).__name__.lower()

    @property
    def mesh(self) -> Mesh | None:
        """The mesh it shows, if it shows one; not that of a scatter."""
        return self.content if isinstance(self.content, Mesh) else None

    @property
    def drawn(self) -> Mesh | None:
        """The mesh that is drawn here, once or scattered."""
        return self.content.mesh if isinstance(self.content, Scatter) else self.mesh


@dataclass(frozen=True, eq=False)
class Placed:
    """A node as met on a walk through the tree.

    ``world`` takes the node's own space to the scene's; ``path`` names it and its ancestors, outermost
    first; ``number`` is its place in the walk and ``parent`` its parent's, -1 for a root; ``visible`` is
    false when it or an ancestor is hidden.
    """

    node: Node
    world: NDArray[np.float64]
    path: tuple[str, ...]
    number: int
    parent: int
    visible: bool


@dataclass(frozen=True, eq=False)
class Scene:
    """A tree of nodes in one frame.

    Parameters
    ----------
    roots : tuple of Node
    frame : Frame
    notes : tuple of Note
        What every reader and step did, in order.
    renamed : tuple of Renamed
        What was called differently in the source.
    source : Path, optional
        The file it was read from.
    properties : mapping
        Free properties that travel with it.
    """

    roots: tuple[Node, ...]
    frame: Frame
    name: str = ""
    notes: tuple[Note, ...] = ()
    source: Path | None = None
    read_files: tuple[Path, ...] = ()
    renamed: tuple[Renamed, ...] = ()
    properties: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))

    def walk(self) -> Iterator[Placed]:
        """Every node with its world transform, parents before children, in the order of the tree."""
        stack: list[tuple[Node, Placed | None]] = [(root, None) for root in reversed(self.roots)]
        number = 0
        while stack:
            node, above = stack.pop()
            if above is None:
                placed = Placed(node, node.transform, (node.name,), number, -1, node.visible)
            else:
                world = above.world @ node.transform
                visible = above.visible and node.visible
                placed = Placed(node, world, (*above.path, node.name), number, above.number, visible)
            yield placed
            number += 1
            stack.extend((child, placed) for child in reversed(node.children))

    def placed_meshes(self) -> Iterator[tuple[Placed, Mesh]]:
        """Every node that shows a mesh, with the mesh; see `scattered` for meshes that are shown many times."""
        for placed in self.walk():
            if placed.node.mesh is not None:
                yield placed, placed.node.mesh

    @property
    def meshes(self) -> tuple[Mesh, ...]:
        """The distinct meshes, in the order in which the tree first shows them."""
        found = (placed.node.drawn for placed in self.walk())
        return tuple({id(mesh): mesh for mesh in found if mesh is not None}.values())

    @property
    def materials(self) -> tuple[Material, ...]:
        """The distinct materials of all slots, in order of appearance."""
        found = (material for mesh in self.meshes for material in mesh.slots if material is not None)
        return tuple({id(material): material for material in found}.values())

    @property
    def textures(self) -> tuple[Texture, ...]:
        """The distinct textures of all materials, in order of appearance."""
        found = (use.texture for material in self.materials for use in material.textures.values())
        return tuple({id(texture): texture for texture in found}.values())

    def bounds(self) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of everything placed, in world space and the scene's unit.

        Points that no face uses do not count. NaN when nothing is placed.
        """
        corners = [content_bounds(placed) for placed in self.walk()]
        corners = [box for box in corners if np.isfinite(box).all()]
        if not corners:
            return np.full((2, 3), np.nan)
        boxes = np.array(corners)
        return np.stack([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    def unit_for(self, what: str) -> float:
        """Metres in one unit, for what cannot be done without knowing.

        Raises
        ------
        UnknownUnitError
            When nobody has said; ``what`` begins the message.
        """
        if self.frame.unit is None:
            raise UnknownUnitError(
                f"{what} needs to know how long the file's unit is, and it does not say.",
                file=self.source,
                remedy="Say it with --unit (mm, cm, m, in, ft or a number of metres), unit= in Python.",
            )
        return self.frame.unit

    def with_notes(self, *notes: Note) -> Scene:
        """The same scene with notes appended."""
        return replace(self, notes=(*self.notes, *notes))

    def rebuilt(self, make: Callable[[int, Node], Node | None]) -> Scene:
        """The scene with every node replaced by ``make(n, node)``; None removes it with all below it.

        ``n`` is the node's place in `walk`. Nodes come last first, so that each is seen with its children
        already changed.
        """
        done: list[Node | None] = []
        order = list(_parents_first(self.roots))
        for n in range(len(order) - 1, -1, -1):
            node = order[n]
            children = tuple(child for child in (done.pop() for _ in node.children) if child is not None)
            same = len(children) == len(node.children) and all(map(operator.is_, children, node.children))
            done.append(make(n, node if same else replace(node, children=children)))
        return replace(self, roots=tuple(node for node in reversed(done) if node is not None))

    def map_nodes(self, change: Callable[[Node], Node | None]) -> Scene:
        """The scene with every node replaced by ``change(node)``, children first; see `rebuilt`."""
        return self.rebuilt(lambda _, node: change(node))

    def with_worlds(self, worlds: Mapping[int, NDArray[np.float64]], contents: Mapping[int, Content | None]) -> Scene:
        """The scene with some nodes placed elsewhere and everything below them left where it is.

        Parameters
        ----------
        worlds : mapping of int to (4, 4)
            World transforms by place in `walk`; nodes that are not named keep theirs.
        contents : mapping of int to content
            New contents for some of the nodes.

        Raises
        ------
        ModelError
            When a parent's transform cannot be undone because it is flat.
        """
        order = list(self.walk())
        locals_: dict[int, NDArray[np.float64]] = {}
        for placed in order:
            if placed.number in worlds or placed.parent in worlds:
                world = worlds.get(placed.number, placed.world)
                if placed.parent < 0:
                    locals_[placed.number] = world
                else:
                    above = worlds.get(placed.parent, order[placed.parent].world)
                    locals_[placed.number] = _relative(above, world, placed.node)

        def make(n: int, node: Node) -> Node:
            changes: dict[str, Any] = {}
            if n in locals_:
                changes["transform"] = locals_[n]
            if n in contents:
                changes["content"] = contents[n]
            return replace(node, **changes) if changes else node

        return self.rebuilt(make)

    def map_meshes(self, change: Callable[[Mesh], Mesh]) -> Scene:
        """The scene with every mesh replaced by ``change(mesh)``; shared meshes stay shared."""
        changed: dict[int, Mesh] = {}

        def swap(node: Node) -> Node:
            mesh = node.drawn
            if mesh is None:
                return node
            if id(mesh) not in changed:
                changed[id(mesh)] = change(mesh)
            new = changed[id(mesh)]
            if new is mesh:
                return node
            return replace(node, content=replace(node.content, mesh=new) if isinstance(node.content, Scatter) else new)

        return self.map_nodes(swap)

    def map_materials(self, change: Callable[[Material], Material | None]) -> Scene:
        """The scene with every material replaced by ``change(material)``, once for each."""
        changed = {id(material): change(material) for material in self.materials}

        def swap(mesh: Mesh) -> Mesh:
            slots = tuple(None if slot is None else changed[id(slot)] for slot in mesh.slots)
            same = all(new is old for new, old in zip(slots, mesh.slots, strict=True))
            return mesh if same else mesh.replace(slots=slots)

        return self.map_meshes(swap)


def count_of(number: int, noun: str) -> str:
    """``"1 face"``, ``"2,000 faces"``: a count as notes say it."""
    if number == 1:
        return f"1 {noun}"
    plural = f"{noun[:-1]}ies" if noun.endswith("y") else f"{noun}es" if noun.endswith(("sh", "x")) else f"{noun}s"
    return f"{number:,} {plural}"


def placed_bounds(mesh: Mesh, world: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner of a mesh's surface under a transform."""
    linear, offset = world[:3, :3], world[:3, 3]
    if np.count_nonzero(linear) == 3 and np.count_nonzero(linear.any(axis=0)) == 3:
        # Axes map to axes: the box maps to a box.
        box = mesh.surface_bounds @ linear.T + offset
        return np.stack([box.min(axis=0), box.max(axis=0)])
    points = mesh.points[mesh.point_used] if mesh.face_count else mesh.points
    return box_of(points @ linear.T + offset)


def content_bounds(placed: Placed) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner, in the scene, of what a node shows itself; NaN when it shows no surface."""
    content = placed.node.content
    if isinstance(content, Scatter):
        return content.bounds(placed.world)
    return placed_bounds(content, placed.world) if isinstance(content, Mesh) else np.full((2, 3), np.nan)


def expanded(scene: Scene, wanted: Callable[[Scatter], bool] = lambda _: True) -> tuple[Scene, int]:
    """The scene with scatters as nodes that share their mesh, and how many nodes that made.

    The node of a scatter stays as their empty parent; ``wanted`` may leave some scatters as they are.
    """
    made = 0

    def apart(node: Node) -> Node:
        nonlocal made
        scatter = node.content
        if not isinstance(scatter, Scatter) or not wanted(scatter):
            return node
        digits = len(str(scatter.count))
        copies = tuple(
            Node(f"{node.name}_{n:0{digits}}", matrix, content=scatter.mesh, visible=node.visible, role=node.role)
            for n, matrix in enumerate(scatter.transforms, 1)
        )
        made += scatter.count
        return replace(node, content=None, children=(*copies, *node.children))

    return scene.map_nodes(apart), made


def _outermost(mesh: Mesh) -> NDArray[np.float64]:
    """(N, 3) points of a surface among which are the farthest in every direction."""
    points = mesh.points[mesh.point_used]
    if len(points) < 64:
        return points
    from scipy.spatial import ConvexHull, QhullError

    try:
        return np.asarray(points[ConvexHull(points).vertices])
    except QhullError:  # flat
        return points


def _relative(above: NDArray[np.float64], world: NDArray[np.float64], node: Node) -> NDArray[np.float64]:
    """The local transform that gives ``world`` below a parent at ``above``."""
    if np.array_equal(above[:3, :3], np.eye(3)):
        local = world.copy()
        local[:3, 3] -= above[:3, 3]
        return local
    try:
        local = np.asarray(np.linalg.solve(above, world), np.float64)
    except np.linalg.LinAlgError:
        raise ModelError(
            "its parent is scaled to nothing along some direction, which cannot be undone.",
            place=f"node {node.name}",
            remedy="Give the parent a scale that is not zero.",
        ) from None
    local[3] = (0.0, 0.0, 0.0, 1.0)
    return local


def _parents_first(roots: tuple[Node, ...]) -> Iterator[Node]:
    stack = list(reversed(roots))
    while stack:
        node = stack.pop()
        yield node
        stack.extend(reversed(node.children))
