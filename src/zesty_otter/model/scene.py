"""The tree of placed things, and the notes of how it came to be."""

from __future__ import annotations

import fnmatch
import itertools
import math
import operator
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from html import escape
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter._plugins import plugins
from zesty_otter.errors import ModelError, UnknownUnitError, closest
from zesty_otter.model.checking import (
    LARGEST,
    NOTHING,
    ReadOnlyDict,
    copied,
    flag,
    is_within,
    named,
    number,
    numbers,
    one_of,
    read_only,
    taken_over,
    texts,
)
from zesty_otter.model.frame import Frame
from zesty_otter.model.material import Material, Texture
from zesty_otter.model.mesh import Mesh, box_of
from zesty_otter.model.naming import count_of, is_default_name, words_of
from zesty_otter.model.roles import ROLES

_MOST_SHOWN = 200
_BOUNDS = "_bounds"  # where scatters, and what is placed, keep their bounds
_MOST_EXPANDED = 200_000  # copies that become nodes
_FEW_PLACES = 4_000  # of copies, whose box is found by placing all

LIGHT_KINDS = ("point", "spot", "directional")
"""How a light shines."""


_SMALLEST = 1e-15


def _direction(value: Any, what: str, place: str) -> tuple[float, ...]:
    """Three numbers that say where something points."""
    found = numbers(value, 3, what, place, -LARGEST)
    if not any(abs(one) >= _SMALLEST for one in found):
        raise ModelError(f"{what} is {value!r}, which points nowhere.", place=place)
    return found


@dataclass(frozen=True)
class Light:
    """A light.

    Parameters
    ----------
    name : str
    kind : str
        One of point, spot and directional.
    color : (float, float, float)
        Linear.
    intensity : float
        In candela; in lux for a directional one.
    reach : float or None
        In metres; unlimited when None.
    cone : (float, float)
        The inner and outer half angle of a spot, in radians.
    direction : (float, float, float)
        Where it shines, in its node's space.
    """

    name: str
    kind: str = "point"
    color: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    reach: float | None = None
    cone: tuple[float, float] = (0.0, 0.785398)
    direction: tuple[float, float, float] = (0.0, 0.0, -1.0)

    def __post_init__(self) -> None:
        named(self.name, "light")
        place = f"light {self.name}"
        one_of(self.kind, LIGHT_KINDS, "kind", place)
        inner, outer = numbers(self.cone, 2, "cone", place, 0.0, math.pi / 2 + 1e-6)
        if inner > outer:
            raise ModelError(f"cone is {self.cone}: the inner angle is larger than the outer.", place=place)
        self.__dict__.update(
            color=numbers(self.color, 3, "color", place),
            intensity=number(self.intensity, "intensity", place),
            reach=None if self.reach is None else number(self.reach, "reach", place),
            cone=(inner, outer),
            direction=_direction(self.direction, "direction", place),
        )


@dataclass(frozen=True)
class Camera:
    """A camera.

    Parameters
    ----------
    name : str
    perspective : bool
        Whether things far away look smaller.
    height : float
        The vertical field of view in radians, or the height of the picture in the scene's unit without
        perspective.
    aspect : float or None
        Width by height; that of the window when None.
    near : float
        The nearest that is seen, in the scene's unit.
    far : float or None
        The farthest that is seen; no end when None.
    direction : (float, float, float)
        Where it looks, in its node's space.
    up : (float, float, float)
        What is upward in the picture.
    """

    name: str
    perspective: bool = True
    height: float = 0.8
    aspect: float | None = None
    near: float = 0.1
    far: float | None = None
    direction: tuple[float, float, float] = (0.0, 0.0, -1.0)
    up: tuple[float, float, float] = (0.0, 1.0, 0.0)

    def __post_init__(self) -> None:
        named(self.name, "camera")
        place = f"camera {self.name}"
        widest = math.pi if self.perspective else LARGEST
        near = number(self.near, "near", place)
        self.__dict__.update(
            height=number(self.height, "height", place, _SMALLEST, widest),
            aspect=None if self.aspect is None else number(self.aspect, "aspect", place, _SMALLEST),
            near=near,
            far=None if self.far is None else number(self.far, "far", place, near),
            direction=_direction(self.direction, "direction", place),
            up=_direction(self.up, "up", place),
        )


@dataclass(frozen=True, eq=False, repr=False)
class Scatter:
    """Many copies of one mesh.

    Parameters
    ----------
    mesh : Mesh
    transforms : (N, 4, 4) float64
        From the space of the mesh to that of the node.
    properties : mapping of str to (N,) or (N, k) array
        What each copy has of its own, such as a seed or a colour; whole numbers as int64, others as float64.
    """

    mesh: Mesh
    transforms: NDArray[np.float64]
    properties: Mapping[str, NDArray[Any]] = NOTHING

    def __post_init__(self) -> None:
        if not isinstance(self.mesh, Mesh):
            raise ModelError(f"a scatter shows a mesh, not {self.mesh!r}.", place="scatter")
        place = f"scatter of mesh {self.mesh.name}"
        transforms = copied(self.transforms, np.float64)
        if not transforms.size:
            transforms = transforms.reshape(0, 4, 4)
        if transforms.ndim != 3 or transforms.shape[1:] != (4, 4):
            raise ModelError(f"transforms must have shape (N, 4, 4), not {transforms.shape}.", place=place)
        _check_transform(transforms, place)
        object.__setattr__(self, "transforms", transforms)
        given = read_only(self.properties, "properties", place)
        columns = {key: _column(key, values, len(transforms), place) for key, values in given.items()}
        object.__setattr__(self, "properties", ReadOnlyDict(columns))

    def __setstate__(self, state: dict[str, Any]) -> None:
        columns = {key: taken_over(one, one.dtype) for key, one in state["properties"].items()}
        sealed = {"transforms": taken_over(state["transforms"], np.float64), "properties": ReadOnlyDict(columns)}
        self.__dict__.update(state, **sealed)

    def __repr__(self) -> str:
        return f"Scatter: {count_of(self.count, 'copy')} of {self.mesh!r}"

    def take(self, copies: NDArray[Any]) -> Scatter:
        """Some of the copies, with what they have of their own.

        Parameters
        ----------
        copies : (K,) int, or (N,) bool
            Which, in the order they are to have.

        Returns
        -------
        Scatter

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> fleet = zo.Scatter(sail, np.stack([np.eye(4)] * 3), {"seed": [7, 8, 9]})
        >>> fleet.take(np.array([2, 0])).properties["seed"].tolist()
        [9, 7]
        """
        columns = {key: one[copies] for key, one in self.properties.items()}
        return Scatter(self.mesh, self.transforms[copies], columns)

    def properties_of(self, copy: int) -> dict[str, Any]:
        """What one copy has of its own: numbers, or lists of them.

        Parameters
        ----------
        copy : int

        Returns
        -------
        dict of str to object

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> zo.Scatter(sail, np.stack([np.eye(4)] * 2), {"seed": [7, 8]}).properties_of(1)
        {'seed': 8}
        """
        return {key: one[copy].tolist() for key, one in self.properties.items()}

    @property
    def count(self) -> int:
        """How many copies there are."""
        return len(self.transforms)

    def bounds(self, world: NDArray[np.float64]) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of all copies' surfaces under a transform; NaN when there are none.

        Parameters
        ----------
        world : (4, 4) float64
            The transform of the node that holds the scatter.

        Returns
        -------
        (2, 3) float64

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> away = np.eye(4)
        >>> away[0, 3] = 10
        >>> zo.Scatter(sail, np.stack([np.eye(4), away])).bounds(np.eye(4)).max(axis=0).tolist()
        [12.0, 3.0, 0.0]
        """
        # Kept for the last place that was asked for: a million copies are asked for again and again.
        key, box = self.__dict__.get(_BOUNDS, (b"", None))
        if key != world.tobytes():
            placed = self.transforms if np.array_equal(world, np.eye(4)) else world @ self.transforms
            key, box = world.tobytes(), copies_bounds(self.mesh.points[self.mesh.point_used], placed)
            box.flags.writeable = False
            self.__dict__[_BOUNDS] = key, box
        return np.asarray(box)


Content = Mesh | Scatter | Light | Camera


NOTE_KINDS = ("done", "assumed", "lost", "finding")
"""What a `Note` may be."""


@dataclass(frozen=True)
class Note:
    """One remark of a reader, step or writer on what it did or could not do.

    Parameters
    ----------
    kind : str
        ``done`` (a change that was asked for), ``assumed`` (correct it if it is wrong), ``lost`` (something that did
        not come through) or ``finding`` (something to look at).
    text : str
    maker : str
        The step or format it comes from.
    file : str
        The file it is about.
    place : str
        Where in the file.
    node : str
        The name of the node it is about.
    """

    kind: str
    text: str
    maker: str = ""
    file: str = ""
    place: str = ""
    node: str = ""

    def __post_init__(self) -> None:
        one_of(self.kind, NOTE_KINDS, "kind", "note")
        if not isinstance(self.text, str):
            raise ModelError(f"text must be text, not {self.text!r}.", place="note")

    def __str__(self) -> str:
        where = ", ".join(part for part in (self.file, self.place, self.node and f"node {self.node}") if part)
        return f"{where}: {self.text}" if where else self.text


@dataclass(frozen=True)
class Renamed:
    """One line of the table of old and new names.

    Parameters
    ----------
    kind : str
        node, mesh, material or texture.
    old : str
    new : str
    """

    kind: str
    old: str
    new: str

    def __post_init__(self) -> None:
        one_of(self.kind, ("node", "mesh", "material", "texture"), "kind", "table of names")


@dataclass(frozen=True, eq=False, repr=False)
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
    properties: Mapping[str, Any] = NOTHING

    def __post_init__(self) -> None:
        named(self.name, "node")
        place = f"node {self.name}"
        transform = copied(self.transform, np.float64)
        if transform.shape != (4, 4):
            raise ModelError(f"a transform must be a 4 x 4 matrix, not {transform.shape}.", place=place)
        _check_transform(transform[None], place)
        if self.role not in ROLES:
            one_of(self.role, ROLES, "role", place)
        flag(self.visible, "visible", place)
        if not isinstance(self.children, Iterable):
            raise ModelError(f"children must be nodes, not {self.children!r}.", place=place)
        for child in self.children:
            if not isinstance(child, Node):
                raise ModelError(f"children must be nodes, not {child!r}.", place=place)
        if self.content is not None and not isinstance(self.content, Content):
            raise ModelError(
                f"holds {self.content!r}.",
                place=place,
                remedy="A node holds a mesh, scatter, light or camera, or None.",
            )
        self.__dict__.update(
            transform=transform,
            children=tuple(self.children),
            groups=texts(self.groups, "groups", place),
            properties=read_only(self.properties, "properties", place),
        )

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, transform=taken_over(state["transform"], np.float64))

    def __repr__(self) -> str:
        parts = [self.kind, *([self.role] if self.role != "visible" else []), *([] if self.visible else ["hidden"])]
        parts += [count_of(len(self.children), "child").replace("childs", "children")] if self.children else []
        return f"Node '{self.name}': {', '.join(parts)}"

    @property
    def kind(self) -> str:
        """What it holds: mesh, scatter, light, camera or empty."""
        return "empty" if self.content is None else type(self.content).__name__.lower()

    @property
    def mesh(self) -> Mesh | None:
        """The mesh it shows, if it shows one; not that of a scatter."""
        return self.content if isinstance(self.content, Mesh) else None

    @property
    def is_shown(self) -> bool:
        """Whether it is there to be seen near by: it is visible, or a box in place of something that is not there."""
        return self.role == "visible" or (self.role == "stand-in" and "asset" not in self.properties)

    @property
    def piece(self) -> str | None:
        """The file whose content is to stand here, as a path from the file of the scene; see ``formats.pieces``."""
        found = self.properties.get("piece")
        return found if isinstance(found, str) and found else None

    @property
    def drawn(self) -> Mesh | None:
        """The mesh that is drawn here, once or scattered."""
        return self.content.mesh if isinstance(self.content, Scatter) else self.mesh


@dataclass(frozen=True, eq=False, repr=False)
class Placed:
    """A node as met on a walk through the tree.

    Parameters
    ----------
    node : Node
    world : (4, 4) float64
        Takes the node's own space to the scene's.
    path : tuple of str
        Its name after those of its ancestors, outermost first.
    number : int
        Its place in the walk.
    parent : int
        The place of its parent, -1 for a root.
    visible : bool
        False when it or an ancestor is hidden.
    above : Placed or None
        Its parent.
    """

    node: Node
    world: NDArray[np.float64]
    path: tuple[str, ...]
    number: int
    parent: int
    visible: bool
    above: Placed | None = None

    def __repr__(self) -> str:
        return f"Placed '{'/'.join(self.path)}': {self.node.kind}"

    @property
    def ancestors(self) -> tuple[Placed, ...]:
        """Its parent, its parent's parent and so on, the nearest first."""
        found: list[Placed] = []
        one = self.above
        while one is not None:
            found.append(one)
            one = one.above
        return tuple(found)


_WALKED = "_walked_nodes"  # where a scene keeps what its walk has found


@dataclass(frozen=True, eq=False, repr=False)
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
    properties: Mapping[str, Any] = NOTHING

    def __post_init__(self) -> None:
        for root in self.roots:
            if not isinstance(root, Node):
                raise ModelError(f"roots must be nodes, not {root!r}.", place="scene")
        if not isinstance(self.frame, Frame):
            raise ModelError(f"frame must be a Frame, not {self.frame!r}.", place="scene")
        for note in self.notes:
            if not isinstance(note, Note):
                raise ModelError(f"notes must be notes, not {note!r}.", place="scene")
        properties = read_only(self.properties, "properties", f"scene {self.name}")
        self.__dict__.update(roots=tuple(self.roots), notes=tuple(self.notes), properties=properties)

    @staticmethod
    def from_mesh(
        *meshes: Mesh, axes: str = "left up forward", unit: float | str | None = "m", name: str = ""
    ) -> Scene:
        """A scene in which each mesh stands at the origin in a node of its name.

        Parameters
        ----------
        *meshes : Mesh
        axes : str
            What +X, +Y and +Z mean.
        unit : str, float or None
            The length of one unit: a name or a number of metres; None when nobody knows.
        name : str
            That of the first mesh when empty.

        Returns
        -------
        Scene

        Raises
        ------
        ModelError
            When something is no mesh.
        UsageError
            When axes or unit make no sense.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> zo.Scene.from_mesh(sail, unit="m")
        Scene 'sail': 1 node, 1 mesh, left up forward, m
        """
        for mesh in meshes:
            if not isinstance(mesh, Mesh):
                raise ModelError(f"takes meshes, not {mesh!r}.", place="Scene.from_mesh")
        nodes = (Node(mesh.name, content=mesh) for mesh in meshes)
        return Scene.from_nodes(*nodes, axes=axes, unit=unit, name=name or meshes[0].name if meshes else name)

    @staticmethod
    def from_nodes(
        *nodes: Node, axes: str = "left up forward", unit: float | str | None = "m", name: str = "scene"
    ) -> Scene:
        """A scene with these nodes as its roots.

        Parameters
        ----------
        *nodes : Node
        axes : str
            What +X, +Y and +Z mean.
        unit : str, float or None
            The length of one unit: a name or a number of metres; None when nobody knows.
        name : str

        Returns
        -------
        Scene

        Raises
        ------
        ModelError
            When something is no node.
        UsageError
            When axes or unit make no sense.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Scene.from_nodes(zo.Node("quay"), zo.Node("boat"), unit="cm", name="yard")
        Scene 'yard': 2 nodes, 0 meshes, left up forward, cm
        """
        return Scene(nodes, Frame(axes, unit), name)

    def __repr__(self) -> str:
        nodes = sum(1 for _ in _parents_first(self.roots))
        parts = [count_of(nodes, "node"), count_of(len(self.meshes), "mesh"), str(self.frame)]
        return f"Scene '{self.name}': {', '.join(parts)}"

    def _repr_html_(self) -> str:
        rows = []
        for placed in itertools.islice(self.walk(), _MOST_SHOWN):
            box = content_bounds(placed) * (self.frame.unit or 1.0)
            size = " × ".join(f"{side:.4g}" for side in box[1] - box[0]) if np.isfinite(box).all() else ""
            size += " m" if size and self.frame.unit else ""
            pad = 1.2 * (len(placed.path) - 1)
            name = f'<td style="padding-left:{pad}em">{escape(placed.node.name)}</td>'
            rows.append(f"<tr>{name}<td>{placed.node.kind}</td><td>{size}</td></tr>")
        return f"<p>{escape(repr(self))}</p><table>{''.join(rows)}</table>"

    def _repr_mimebundle_(self, include: Any = None, exclude: Any = None) -> dict[str, str]:
        """What a notebook shows: the scene in the round, or the table of its nodes where there is nothing to draw."""
        views = (view(self) for view in plugins("zesty_otter.notebook"))
        return {"text/plain": repr(self), "text/html": next(filter(None, views), "") or self._repr_html_()}

    def __getstate__(self) -> dict[str, Any]:
        # Node by node, as a deep tree would end in a RecursionError.
        order = list(_parents_first(self.roots))
        alone = [(replace(node, children=()), len(node.children)) for node in order]
        return {**{one.name: getattr(self, one.name) for one in fields(self)}, "roots": alone}

    def __setstate__(self, state: dict[str, Any]) -> None:
        done: list[Node] = []
        for node, count in reversed(state["roots"]):
            children = tuple(done.pop() for _ in range(count))
            done.append(replace(node, children=children) if children else node)
        self.__dict__.update(state, roots=tuple(reversed(done)))

    def same_as(self, other: Scene) -> bool:
        """Whether another scene has the same frame and the same nodes with the same contents, bit for bit.

        Where it came from, its notes and what was renamed do not count.

        Parameters
        ----------
        other : Scene

        Returns
        -------
        bool

        Examples
        --------
        >>> import zesty_otter as zo
        >>> yard = zo.Scene.from_nodes(zo.Node("quay"))
        >>> yard.same_as(zo.Scene.from_nodes(zo.Node("quay"))), yard.same_as(zo.Scene.from_nodes(zo.Node("boat")))
        (True, False)
        """
        ours, theirs = list(_parents_first(self.roots)), list(_parents_first(other.roots))
        return (
            (self.frame, self.name, self.properties) == (other.frame, other.name, other.properties)
            and len(ours) == len(theirs)
            and all(map(_alike, ours, theirs))
        )

    def nodes(self, *, role: str | None = None, kind: str | None = None) -> tuple[Placed, ...]:
        """The nodes of a role or a kind, or all, as they are placed, in the order of the tree.

        Parameters
        ----------
        role : str, optional
            One of `ROLES`.
        kind : {"mesh", "scatter", "light", "camera", "empty"}, optional

        Returns
        -------
        tuple of Placed

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> hull = zo.Node("sail_hull", content=sail, role="collision")
        >>> scene = zo.Scene.from_nodes(zo.Node("sail", content=sail), hull)
        >>> [placed.node.name for placed in scene.nodes(role="collision")]
        ['sail_hull']
        >>> len(scene.nodes(kind="mesh"))
        2
        """
        if role is not None:
            one_of(role, ROLES, "role", "nodes")
        if kind is not None:
            one_of(kind, ("mesh", "scatter", "light", "camera", "empty"), "kind", "nodes")
        return tuple(one for one in self.walk() if role in (None, one.node.role) and kind in (None, one.node.kind))

    def find(self, pattern: str) -> tuple[Placed, ...]:
        """The nodes whose names fit a pattern, in which * and ? stand for anything, as they are placed.

        Parameters
        ----------
        pattern : str

        Returns
        -------
        tuple of Placed
            In the order of the tree; empty when none fits.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> scene = zo.Scene.from_nodes(zo.Node("gate_left"), zo.Node("gate_right"), zo.Node("wall"))
        >>> [placed.node.name for placed in scene.find("gate*")]
        ['gate_left', 'gate_right']
        """
        named(pattern, "find")
        return tuple(one for one in self.walk() if fnmatch.fnmatchcase(one.node.name, pattern))

    def with_node(
        self, node: Node, *, below: Placed | str | None = None, instead_of: Placed | str | None = None
    ) -> Scene:
        """The scene with one more node, or with one in place of another.

        Parameters
        ----------
        node : Node
        below : Placed or name, optional
            The node it hangs from; it becomes a root when absent.
        instead_of : Placed or name, optional
            The node it replaces, with all below that.

        Returns
        -------
        Scene

        Raises
        ------
        ModelError
            When no node has a name that is given, or several do.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> yard = zo.Scene.from_nodes(zo.Node("boat"))
        >>> [placed.node.name for placed in yard.with_node(zo.Node("mast"), below="boat").walk()]
        ['boat', 'mast']
        """
        if instead_of is not None:
            number = self._number(instead_of)
            return self.rebuilt(lambda n, old: node if n == number else old)
        if below is None:
            return replace(self, roots=(*self.roots, node))
        number = self._number(below)
        return self.rebuilt(lambda n, old: replace(old, children=(*old.children, node)) if n == number else old)

    def without(self, *nodes: Placed | str) -> Scene:
        """The scene without some nodes and all below them; names may be patterns.

        Parameters
        ----------
        *nodes : Placed or str
            Nodes as `find` and `walk` give them, or patterns of names.

        Returns
        -------
        Scene

        Examples
        --------
        >>> import zesty_otter as zo
        >>> scene = zo.Scene.from_nodes(zo.Node("gate_left"), zo.Node("wall"))
        >>> scene.without("gate*")
        Scene 'scene': 1 node, 0 meshes, left up forward, m
        """
        gone: set[int] = set()
        for one in nodes:
            gone |= {one.number} if isinstance(one, Placed) else {placed.number for placed in self.find(one)}
        return self.rebuilt(lambda n, old: None if n in gone else old)

    def _number(self, node: Placed | str) -> int:
        if isinstance(node, Placed):
            return node.number
        found = self.find(node)
        if len(found) == 1:
            return found[0].number
        names = list(dict.fromkeys(one.node.name for one in self.walk()))
        hint = closest(node, names) if not found else " Give one of `find` instead."
        raise ModelError(f"{count_of(len(found), 'node')} called '{node}', where one is meant.{hint}")

    def walk(self) -> Iterator[Placed]:
        """Every node with its world transform, parents before children, in the order of the tree.

        Yields
        ------
        Placed

        Examples
        --------
        >>> import zesty_otter as zo
        >>> yard = zo.Scene.from_nodes(zo.Node("boat", children=(zo.Node("mast"),)), zo.Node("quay"))
        >>> [placed.node.name for placed in yard.walk()]
        ['boat', 'mast', 'quay']
        """
        if _WALKED not in self.__dict__:
            self.__dict__[_WALKED] = tuple(self._walked())
        return iter(self.__dict__[_WALKED])

    def _walked(self) -> Iterator[Placed]:
        stack: list[tuple[Node, Placed | None]] = [(root, None) for root in reversed(self.roots)]
        number = 0
        while stack:
            node, above = stack.pop()
            if above is None:
                placed = Placed(node, node.transform, (node.name,), number, -1, node.visible)
            else:
                world = above.world @ node.transform
                visible = above.visible and node.visible
                placed = Placed(node, world, (*above.path, node.name), number, above.number, visible, above)
            yield placed
            number += 1
            stack.extend((child, placed) for child in reversed(node.children))

    def placed_meshes(self) -> Iterator[tuple[Placed, Mesh]]:
        """Every node that shows a mesh, with the mesh; see `scattered` for meshes that are shown many times.

        Yields
        ------
        placed : Placed
        mesh : Mesh

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> [(placed.number, mesh.face_count) for placed, mesh in zo.Scene.from_mesh(sail).placed_meshes()]
        [(0, 1)]
        """
        for placed in self.walk():
            if placed.node.mesh is not None:
                yield placed, placed.node.mesh

    @cached_property
    def meshes(self) -> tuple[Mesh, ...]:
        """The distinct meshes, in the order in which the tree first shows them."""
        found = (placed.node.drawn for placed in self.walk())
        return tuple({id(mesh): mesh for mesh in found if mesh is not None}.values())

    @cached_property
    def materials(self) -> tuple[Material, ...]:
        """The distinct materials of all slots, in order of appearance."""
        found = (material for mesh in self.meshes for material in mesh.slots if material is not None)
        return tuple({id(material): material for material in found}.values())

    @cached_property
    def textures(self) -> tuple[Texture, ...]:
        """The distinct textures of all materials, in order of appearance."""
        found = (use.texture for material in self.materials for use in material.textures.values())
        return tuple({id(texture): texture for texture in found}.values())

    def bounds(self) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of everything placed, in world space and the scene's unit.

        Points that no face uses do not count. NaN when nothing is placed.

        Returns
        -------
        (2, 3) float64

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> zo.Scene.from_mesh(sail).bounds().tolist()
        [[0.0, 0.0, 0.0], [2.0, 3.0, 0.0]]
        """
        corners = [content_bounds(placed) for placed in self.walk()]
        corners = [box for box in corners if np.isfinite(box).all()]
        if not corners:
            return np.full((2, 3), np.nan)
        boxes = np.array(corners)
        return np.stack([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    def unit_for(self, what: str) -> float:
        """Metres in one unit, for what cannot be done without knowing.

        Parameters
        ----------
        what : str
            What cannot be done, as the message begins.

        Returns
        -------
        float
            In metres.

        Raises
        ------
        UnknownUnitError
            When nobody has said; ``what`` begins the message.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Scene.from_nodes(zo.Node("quay"), unit="cm").unit_for("welding")
        0.01
        """
        if self.frame.unit is None:
            raise UnknownUnitError(
                f"{what} needs to know how long the file's unit is, and it does not say.",
                file=self.source,
                remedy="Say it with --unit (mm, cm, m, in, ft or a number of metres), unit= in Python.",
            )
        return self.frame.unit

    def with_notes(self, *notes: Note) -> Scene:
        """The same scene with notes appended.

        Parameters
        ----------
        *notes : Note

        Returns
        -------
        Scene

        Examples
        --------
        >>> import zesty_otter as zo
        >>> scene = zo.Scene.from_nodes(zo.Node("quay")).with_notes(zo.Note("done", "swept"))
        >>> scene.notes[0].text
        'swept'
        """
        noted = replace(self, notes=(*self.notes, *notes))
        if _WALKED in self.__dict__:
            noted.__dict__[_WALKED] = self.__dict__[_WALKED]
        return noted

    def rebuilt(self, make: Callable[[int, Node], Node | None]) -> Scene:
        """The scene with every node replaced by ``make(n, node)``; None removes it with all below it.

        ``n`` is the node's place in `walk`. Nodes come last first, so that each is seen with its children
        already changed.

        Parameters
        ----------
        make : callable
            Takes the place in the walk and the node; gives the node that stands there now, or None.

        Returns
        -------
        Scene

        Examples
        --------
        >>> import zesty_otter as zo
        >>> yard = zo.Scene.from_nodes(zo.Node("boat"), zo.Node("quay"))
        >>> yard.rebuilt(lambda number, node: None if number == 0 else node).roots
        (Node 'quay': empty,)
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
        """The scene with every node replaced by ``change(node)``, children first; see `rebuilt`.

        Parameters
        ----------
        change : callable
            Takes a node whose children are changed already; gives another or itself, or None to drop it.

        Returns
        -------
        Scene

        Examples
        --------
        >>> from dataclasses import replace
        >>> import zesty_otter as zo
        >>> scene = zo.Scene.from_nodes(zo.Node("Gate"))
        >>> scene.map_nodes(lambda node: replace(node, name=node.name.lower())).roots
        (Node 'gate': empty,)
        """
        return self.rebuilt(lambda _, node: change(node))

    def with_worlds(self, worlds: Mapping[int, NDArray[np.float64]], contents: Mapping[int, Content | None]) -> Scene:
        """The scene with some nodes placed elsewhere and everything below them left where it is.

        Parameters
        ----------
        worlds : mapping of int to (4, 4)
            World transforms by place in `walk`; nodes that are not named keep theirs.
        contents : mapping of int to content
            New contents for some of the nodes.

        Returns
        -------
        Scene

        Raises
        ------
        ModelError
            When a parent's transform cannot be undone because it is flat.

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> yard = zo.Scene.from_nodes(zo.Node("boat", np.diag([2, 2, 2, 1]), children=(zo.Node("mast"),)))
        >>> [placed.world[0, 0].item() for placed in yard.with_worlds({0: np.eye(4)}, {}).walk()]
        [1.0, 2.0]
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
        """The scene with every mesh replaced by ``change(mesh)``; shared meshes stay shared.

        Parameters
        ----------
        change : callable
            Takes a mesh and gives one; called once for each distinct mesh.

        Returns
        -------
        Scene

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> bare = zo.Scene.from_mesh(sail).map_meshes(lambda mesh: mesh.replace(name=mesh.name.upper()))
        >>> bare.roots[0].content.name
        'SAIL'
        """
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
        """The scene with every material replaced by ``change(material)``, once for each.

        Parameters
        ----------
        change : callable
            Takes a material and gives another or itself, or None for a slot without one.

        Returns
        -------
        Scene

        Examples
        --------
        >>> from dataclasses import replace
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> scene = zo.Scene.from_mesh(sail.replace(slots=(zo.Material("canvas"),)))
        >>> rough = scene.map_materials(lambda material: replace(material, roughness=0.9))
        >>> rough.roots[0].content.slots[0].roughness
        0.9
        """
        changed = {id(material): change(material) for material in self.materials}

        def swap(mesh: Mesh) -> Mesh:
            slots = tuple(None if slot is None else changed[id(slot)] for slot in mesh.slots)
            same = all(new is old for new, old in zip(slots, mesh.slots, strict=True))
            return mesh if same else mesh.replace(slots=slots)

        return self.map_meshes(swap)


def default_names(scene: Scene) -> tuple[str, ...]:
    """The names of visible nodes that nobody seems to have chosen, in the order of the tree.

    A word with a number is one where neither file, group, material nor a name of several words has the word; and so is
    that word alone.

    Parameters
    ----------
    scene : Scene

    Returns
    -------
    tuple of str

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> default_names(zo.Scene.from_nodes(zo.Node("part_7", content=sail), zo.Node("rudder", content=sail)))
    ('part_7',)
    """
    order = list(scene.walk())
    shown = [one.node.name for one in order if one.node.role == "visible"]
    above = [name for one in order for name in (*one.node.groups, *one.path[:-1])]
    file = [scene.source.stem] if scene.source else []
    materials = [material.name for material in scene.materials]
    several = [name for name in shown if len(words_of([name])) > 1]
    known = words_of([scene.name, *file, *above, *materials, *several])
    numbered = [name for name in shown if is_default_name(name, known)]
    words = words_of(numbered)
    return tuple(name for name in shown if name in numbered or name.lower() in words)


def _alike(one: Node, other: Node) -> bool:
    """Whether two nodes are the same but for their children, of which they have as many."""
    mine, yours = one.content, other.content
    if isinstance(mine, Scatter) and isinstance(yours, Scatter):
        same = np.array_equal(mine.transforms, yours.transforms) and mine.mesh.same_as(yours.mesh)
        same = same and mine.properties.keys() == yours.properties.keys()
        same = same and all(np.array_equal(one, yours.properties[key]) for key, one in mine.properties.items())
    elif isinstance(mine, Mesh) and isinstance(yours, Mesh):
        same = mine is yours or mine.same_as(yours)
    else:
        same = mine == yours
    plain = ("name", "visible", "groups", "role", "properties")
    return (
        same
        and len(one.children) == len(other.children)
        and np.array_equal(one.transform, other.transform)
        and all(getattr(one, key) == getattr(other, key) for key in plain)
    )


def _column(key: str, values: Any, count: int, place: str) -> NDArray[Any]:
    """What each of so many copies has of its own, as an array nobody can write to."""
    given = np.asarray(values)
    found = copied(given, np.int64 if given.dtype.kind in "biu" else np.float64)
    found = found[:, 0] if found.ndim == 2 and found.shape[1] == 1 else found
    if found.ndim not in (1, 2) or len(found) != count or (found.ndim == 2 and not 1 <= found.shape[1] <= 4):
        text = f"property '{key}' has shape {found.shape}; it must be ({count},), or ({count}, k) with k from 1 to 4."
        raise ModelError(text, place=place, remedy="Give one number, or up to four, for each copy.")
    if not is_within(found):
        raise ModelError(f"property '{key}' must hold finite numbers up to {LARGEST:g}.", place=place)
    return found


def _check_transform(transforms: NDArray[np.float64], place: str) -> None:
    """Complains about matrices (N, 4, 4) that are no transforms."""
    if len(transforms) == 1:  # as each node has: quicker number by number
        values = transforms.ravel().tolist()
        within, ends = all(-LARGEST <= value <= LARGEST for value in values), values[12:] == [0.0, 0.0, 0.0, 1.0]
    else:
        within, ends = is_within(transforms), bool((transforms[:, 3] == (0.0, 0.0, 0.0, 1.0)).all())
    if not within:
        raise ModelError(f"a transform must hold finite numbers up to {LARGEST:g}.", place=place)
    if not ends:
        raise ModelError("a transform must end in the row 0 0 0 1.", place=place)


def placed_bounds(mesh: Mesh, world: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner of a mesh's surface under a transform.

    Parameters
    ----------
    mesh : Mesh
    world : (4, 4) float64

    Returns
    -------
    (2, 3) float64
        NaN when the mesh has no points.

    Examples
    --------
    >>> import numpy as np
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> placed_bounds(sail, np.diag([2.0, 1.0, 1.0, 1.0])).tolist()
    [[0.0, 0.0, 0.0], [4.0, 3.0, 0.0]]
    """
    last, place = mesh.cached(_LastPlace), world.tobytes()
    if last.place != place:
        last.box = _placed_bounds(mesh, world)
        last.box.flags.writeable = False
        last.place = place
    return last.box


class _LastPlace:
    """Where a mesh was asked for last: it is asked for there again and again."""

    def __init__(self, mesh: Mesh) -> None:
        self.place, self.box = b"", mesh.points[:0]


def _placed_bounds(mesh: Mesh, world: NDArray[np.float64]) -> NDArray[np.float64]:
    rows = world[:3].tolist()
    along = [[k for k in range(3) if row[k] != 0.0] for row in rows]
    if sorted(along) == [[0], [1], [2]]:
        # Axes map to axes: the box maps to a box.
        ends = mesh.surface_bounds.tolist()
        sides = [[row[k] * end[k] + row[3] for end in ends] for row, (k,) in zip(rows, along, strict=True)]
        return np.array([[min(side) for side in sides], [max(side) for side in sides]])
    linear, offset = world[:3, :3], world[:3, 3]
    points = mesh.points[mesh.point_used] if mesh.face_count else mesh.points
    return box_of(points @ linear.T + offset)


def content_bounds(placed: Placed) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner, in the scene, of what a node shows itself; NaN when it shows no surface.

    Parameters
    ----------
    placed : Placed

    Returns
    -------
    (2, 3) float64
        In the unit of the scene.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> content_bounds(next(zo.Scene.from_mesh(sail).walk())).tolist()
    [[0.0, 0.0, 0.0], [2.0, 3.0, 0.0]]
    """
    known: NDArray[np.float64] | None = placed.__dict__.get(_BOUNDS)
    if known is None:
        content = placed.node.content
        if isinstance(content, Scatter):
            known = content.bounds(placed.world)
        else:
            known = placed_bounds(content, placed.world) if isinstance(content, Mesh) else np.full((2, 3), np.nan)
        known.flags.writeable = False
        placed.__dict__[_BOUNDS] = known
    return known


def copies_bounds(points: NDArray[np.float64], transforms: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner of points under each of many transforms.

    Parameters
    ----------
    points : (P, 3) float64
    transforms : (N, 4, 4) float64

    Returns
    -------
    (2, 3) float64
        NaN where there are none.

    Examples
    --------
    >>> import numpy as np
    >>> from zesty_otter.model import copies_bounds
    >>> copies_bounds(np.eye(3), np.stack([np.eye(4), np.diag([2.0, 1.0, 1.0, 1.0])])).tolist()
    [[0.0, 0.0, 0.0], [2.0, 1.0, 1.0]]
    """
    if not len(points) or not len(transforms):
        return np.full((2, 3), np.nan)
    rows, offsets = transforms[:, :3, :3], transforms[:, :3, 3]
    if len(points) * len(transforms) <= _FEW_PLACES:
        places = (points @ rows.transpose(0, 2, 1) + offsets[:, None]).reshape(-1, 3)
        return np.stack([places.min(axis=0), places.max(axis=0)]) + 0.0
    low = [-_farthest(points, -rows[:, k], -offsets[:, k]) for k in range(3)]
    return np.array([low, [_farthest(points, rows[:, k], offsets[:, k]) for k in range(3)]]) + 0.0


def seen_bounds(scene: Scene) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner, in the scene, of what is seen near by: visible meshes.

    Where there is none, of levels; else of all meshes, whatever they are there for. NaN when there are none.

    Parameters
    ----------
    scene : Scene

    Returns
    -------
    (2, 3) float64
        In the unit of the scene.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> wide = sail.replace(points=3 * sail.points)
    >>> box = zo.Node("box", content=wide, role="collision")
    >>> seen_bounds(zo.Scene.from_nodes(zo.Node("sail", content=sail), box)).tolist()
    [[0.0, 0.0, 0.0], [2.0, 3.0, 0.0]]
    """
    drawn = [one for one in scene.walk() if one.node.drawn is not None]
    shown = [one for one in drawn if one.visible] or drawn
    near = [one for one in shown if one.node.is_shown]
    boxes = [content_bounds(one) for one in near or [one for one in shown if one.node.role == "level"] or shown]
    boxes = [box for box in boxes if np.isfinite(box).all()]
    if not boxes:
        return np.full((2, 3), np.nan)
    if len(boxes) == 1:
        return boxes[0].copy()
    return np.stack([np.min([box[0] for box in boxes], axis=0), np.max([box[1] for box in boxes], axis=0)])


def expanded(scene: Scene, wanted: Callable[[Scatter], bool] = lambda _: True) -> tuple[Scene, int]:
    """The scene with scatters as nodes that share their mesh, and how many nodes that made.

    The node of a scatter stays as their empty parent; ``wanted`` may leave some scatters as they are.

    Parameters
    ----------
    scene : Scene
    wanted : callable, optional
        Takes a scatter; whether it is to be taken apart. All are when absent.

    Returns
    -------
    scene : Scene
    made : int

    Raises
    ------
    ModelError
        When that would make more nodes than anything can hold.

    Examples
    --------
    >>> import numpy as np
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> fleet = zo.Scene.from_nodes(zo.Node("fleet", content=zo.Scatter(sail, np.stack([np.eye(4)] * 3))))
    >>> expanded(fleet)
    (Scene 'scene': 4 nodes, 1 mesh, left up forward, m, 3)
    """
    made = 0
    every = [one.node.content for one in scene.walk() if isinstance(one.node.content, Scatter)]
    every = [one for one in every if wanted(one)]
    if not every:
        return scene, 0
    chosen = {id(one) for one in every}
    copies = sum(one.count for one in every)
    if copies > _MOST_EXPANDED:
        triangles = sum(one.count * one.mesh.triangle_count for one in every)
        raise ModelError(
            f"{copies:,} copies would become nodes of their own, with {triangles:,} triangles in all.",
            place=f"scatter of {every[0].mesh.name}",
            remedy="Write glTF or USD, which keep scatters, or cut it with the step cells and write a file for each.",
        )

    def apart(node: Node) -> Node:
        nonlocal made
        scatter = node.content
        if not isinstance(scatter, Scatter) or id(scatter) not in chosen:
            return node
        copies = tuple(_copy(node, scatter, n) for n in range(scatter.count))
        made += scatter.count
        rest = node.properties if node.role == "visible" and node.piece is None else NOTHING
        return replace(node, content=None, children=(*copies, *node.children), properties=rest)

    return scene.map_nodes(apart), made


def _copy(node: Node, scatter: Scatter, n: int) -> Node:
    """The node of one copy of a scatter. What belongs to an asset that is scattered alike belongs to its copy."""
    number = f"_{n + 1:0{len(str(scatter.count))}}"
    properties = scatter.properties_of(n) if scatter.properties else {}
    asset, name = node.properties.get("asset"), node.name + number
    if node.role != "visible" or node.piece is not None:
        properties = {**node.properties, **properties}
    if isinstance(asset, str) and node.name.startswith(asset):
        name = asset + number + node.name.removeprefix(asset)
        properties["asset"] = asset + number
    # Of a piece each copy is shown by a node that names it.
    content = scatter.mesh if node.piece is None else None
    return Node(
        name, scatter.transforms[n], (), content, node.visible, role=node.role, properties=properties or NOTHING
    )


def with_nodes_behind(
    scene: Scene,
    behind: Mapping[int, list[Node]],
    changed: Mapping[int, Node],
    inside: Mapping[int, Sequence[Node]] | None = None,
) -> Scene:
    """The scene with some nodes changed, with others behind them as siblings, and with more children.

    Parameters
    ----------
    scene : Scene
    behind : mapping of int to list of Node
        What stands behind nodes, by place in the walk.
    changed : mapping of int to Node
        What takes the place of nodes; their children are those of the scene.
    inside : mapping of int to sequence of Node, optional
        What nodes hold before their children.

    Returns
    -------
    Scene

    Examples
    --------
    >>> import zesty_otter as zo
    >>> yard = zo.Scene.from_nodes(zo.Node("boat"), zo.Node("quay"))
    >>> with_nodes_behind(yard, {0: [zo.Node("oar")]}, {}).roots
    (Node 'boat': empty, Node 'oar': empty, Node 'quay': empty)
    """
    done: list[list[Node]] = []
    order = [placed.node for placed in scene.walk()]
    for n in range(len(order) - 1, -1, -1):
        below = [child for children in [done.pop() for _ in order[n].children] for child in children]
        new = changed.get(n, order[n])
        done.append([replace(new, children=(*(inside or {}).get(n, ()), *below)), *behind.get(n, ())])
    return replace(scene, roots=tuple(node for nodes in reversed(done) for node in nodes))


def _farthest(points: NDArray[np.float64], rows: NDArray[np.float64], offsets: NDArray[np.float64]) -> float:
    """The largest of ``row @ point + offset``, of all points (P, 3) and all rows (N, 3) with their offsets (N,)."""
    box = box_of(points)
    # No copy reaches beyond its box: those whose boxes do not reach what another has need not be looked at.
    reach = rows @ box.mean(axis=0) + np.abs(rows) @ ((box[1] - box[0]) / 2) + offsets
    best, left, count = -np.inf, np.arange(len(rows)), 16
    while len(left):
        count = min(4 * count, max(1, 4_000_000 // len(points)))
        order = np.argpartition(-reach[left], count - 1) if len(left) > count else np.arange(len(left))
        now, left = left[order[:count]], left[order[count:]]
        best = max(best, float((rows[now] @ points.T + offsets[now, None]).max()))
        left = left[reach[left] > best]
    return best


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
            "its parent has zero scale along some direction, which cannot be undone.",
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
