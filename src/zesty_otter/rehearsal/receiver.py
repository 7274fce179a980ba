"""A receiver: takes the file, the target's frame and its names for roles, and nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter import formats
from zesty_otter.audit.checks import over_limits
from zesty_otter.audit.footing import CollisionFacts, collision_facts
from zesty_otter.audit.surveying import leftover
from zesty_otter.geometry.surface.corners import split_vertices
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Frame, Mesh, Node, Placed, Scatter, Scene, format_length
from zesty_otter.rehearsal.second import second_reading
from zesty_otter.steps import Reframe, Roles, level_facts
from zesty_otter.steps.assets import Asset, assets_of, level_of, usual_templates
from zesty_otter.targets import Target

_BYTES = {"normal": 12, "tangent": 16, "uv": 8, "color": 4}  # of a vertex in memory, beside 12 for its position


@dataclass(frozen=True)
class ReceivedAsset:
    """One asset as the target would see it. Lengths are in metres.

    Parameters
    ----------
    name : str
    size : (float, float, float)
        Width, height and depth.
    lowest : float
        How far its lowest point is above its pivot.
    triangles : int
    vertices : int
    draws : int
        Draw calls of the visible mesh.
    bytes : int
        What vertices and indices of all it has take in memory.
    levels : int
    switches : tuple of float
        The distances at which levels appear.
    collision : int
        How many meshes.
    shadow : bool
    leftover : tuple of str
        Transforms that are not zero.
    footing : CollisionFacts or None
    """

    name: str
    size: tuple[float, float, float]
    lowest: float
    triangles: int
    vertices: int
    draws: int
    bytes: int
    levels: int
    switches: tuple[float, ...]
    collision: int
    shadow: bool
    leftover: tuple[str, ...]
    footing: CollisionFacts | None


@dataclass(frozen=True)
class Received:
    """What a target makes of a file.

    Parameters
    ----------
    source : str
    target : str
    frame : str
        What it did to axes and unit.
    assets : tuple of ReceivedAsset
    strays : tuple of str
        What it did not recognise, and why.
    textures_missing : tuple of str
    over : tuple of str
        Limits of the target that are exceeded.
    second : str
        What a strict receiver of the format said, which shares no code with the reader.
    unlike : tuple of str
        How the file breaks its specification, or where that receiver sees something else.
    """

    source: str
    target: str
    frame: str
    assets: tuple[ReceivedAsset, ...]
    strays: tuple[str, ...]
    textures_missing: tuple[str, ...]
    over: tuple[str, ...]
    second: str = ""
    unlike: tuple[str, ...] = ()

    @property
    def problems(self) -> tuple[str, ...]:
        """What would go wrong, in words."""
        said = [f"{one.name}: {', '.join(one.leftover)} left in its transform" for one in self.assets if one.leftover]
        said += [f"{name}: this texture would be missing" for name in self.textures_missing]
        return (*self.unlike, *self.strays, *said, *self.over)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for JSON.

        Returns
        -------
        dict of str to object

        Examples
        --------
        >>> from pathlib import Path
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
        >>> from zesty_otter.targets import load
        >>> received, _ = receive(Path("sail.glb"), load("cm-forward-right-up"))
        >>> sorted(received.as_dict())
        ['assets', 'frame', 'over', 'problems', 'second', 'source', 'strays', 'target', 'textures_missing', 'unlike']
        """
        return {**asdict(self), "problems": list(self.problems)}


def receive(path: Path, target: Target) -> tuple[Received, Scene]:
    """Take a file as a target would: what it makes of it, and the scene in the target's space.

    A format that says nothing of axes or unit is taken in those of the target, as an engine does.

    Parameters
    ----------
    path : Path
    target : Target

    Returns
    -------
    received : Received
    scene : Scene

    Raises
    ------
    InputError
        When the file cannot be read.

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> from zesty_otter.targets import load
    >>> received, scene = receive(Path("sail.glb"), load("cm-forward-right-up"))
    >>> scene
    Scene 'sail': 1 node, 1 mesh, forward right up, cm
    """
    scene = formats.read(path)
    kind = formats.format_of(path, _first(path))
    space = target.space
    silent = [word for word, said in (("axes", not kind.axes_vary), ("unit", scene.frame.unit is not None)) if not said]
    frame = Frame(
        space.axes if "axes" in silent else scene.frame.axes, space.unit if "unit" in silent else scene.frame.unit
    )
    given = replace(scene, frame=frame)
    turned = Reframe(axes=" ".join(space.axes), unit=space.unit).apply(given)
    text = f"taken in the target's own {' and '.join(silent)}; the file says none" if silent else "as the file says"
    if not silent and frame != space:
        text = f"turned from {frame} to {space}"
    # An engine knows roles by names alone.
    templates: dict[str, tuple[str, ...]] = {role: (name,) for role, name in target.names.items() if role != "visible"}
    visible = target.names.get("visible", "{name}")
    bare = turned.rebuilt(lambda _, node: _bare(node))
    named = Roles(templates=templates or usual_templates(), visible=visible).apply(bare)
    facts = {one.asset: one for one in collision_facts(named)}
    assets = [one for one in assets_of(named) if any(placed.node.drawn is not None for placed in one.main)]
    switches = {one.node: one.distance for one in level_facts(_with_properties(named, turned))}
    return (
        Received(
            str(path),
            target.name,
            text,
            tuple(_asset(one, named, switches, facts.get(one.name)) for one in assets),
            tuple(_strays(Roles.named_by(target.names).apply(turned), named, assets, templates)),
            tuple(one.name for one in scene.textures if not one.found),
            tuple(_over(named, target, facts.values())),
            *second_reading(path, scene),
        ),
        named,
    )


def _over(named: Scene, target: Target, solid: Iterable[CollisionFacts]) -> Iterator[str]:
    """What is beyond the limits of the target, in words."""
    for one in solid:
        off = max(one.floats, one.sinks)
        if off > target.limits.footing:
            most = format_length(target.limits.footing)
            how = "float" if one.floats >= one.sinks else "sink"
            yield f"{one.asset}: feet would {how} by {format_length(float(f'{off:.3g}'))}, {most} are allowed"
    yield from (f"{one.node}: {one.text}" for one in over_limits(named, target) if one.rule != "texture-missing")


def _first(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(64)


def _bare(node: Node) -> Node:
    """A node as one sees it that knows names only."""
    return replace(node, role="visible", properties={}) if node.role != "visible" or node.properties else node


def _with_properties(named: Scene, turned: Scene) -> Scene:
    """Levels with the distances that came with them."""
    own = [placed.node.properties for placed in turned.walk()]
    return named.rebuilt(lambda n, node: replace(node, properties={**own[n], **node.properties}))


def _asset(
    asset: Asset, scene: Scene, switches: Mapping[str, float | None], facts: CollisionFacts | None
) -> ReceivedAsset:
    metre = scene.frame.unit or 1.0
    box = np.nan_to_num(asset.bounds())
    wide, high, deep = (float((box[1] - box[0])[scene.frame.towards(w)[0]]) * metre for w in ("left", "up", "forward"))
    axis, sign = scene.frame.up
    pivot = asset.main[0].world[:3, 3]
    lowest = float(min(sign * (box[0][axis] - pivot[axis]), sign * (box[1][axis] - pivot[axis]))) * metre
    mesh = [one.node.drawn for one in asset.main if one.node.drawn is not None]
    rest = [one for one in asset.rest if one.node.drawn is not None]
    counts = [_in_memory(one) for one in mesh]
    roles = [one.node.role for one in rest]
    levels = {level_of(one.node): one for one in rest if one.node.role == "level"}
    return ReceivedAsset(
        asset.name,
        (wide, high, deep),
        lowest,
        sum(one.triangle_count for one in mesh),
        sum(vertices for vertices, _ in counts),
        sum(_draws(one) for one in asset.main),
        sum(size for _, size in counts) + sum(_in_memory(one.node.drawn)[1] for one in rest if one.node.drawn),
        len(levels),
        tuple(away for one in levels.values() if (away := switches.get(one.node.name)) is not None),
        roles.count("collision"),
        "shadow" in roles,
        tuple(dict.fromkeys(part for one in (*asset.main, *rest) for part in leftover(one.node.transform))),
        facts,
    )


def _draws(placed: Placed) -> int:
    mesh = placed.node.drawn
    if mesh is None or not mesh.face_count:
        return 0
    # Copies of a scatter are drawn at once.
    assert isinstance(placed.node.content, Mesh | Scatter)
    return len(mesh.used_slots)


def _in_memory(mesh: Mesh) -> tuple[int, int]:
    """How many vertices a mesh has on a graphics card, and the bytes of these and of the indices."""
    corners, face = mesh.surface(triangulate)
    if not len(corners):
        return 0, 0
    slot = mesh.slot_of_face[face].astype(np.int32)
    layers: list[tuple[NDArray[np.float32], NDArray[np.int32]]] = [(one.values, one.index) for one in mesh.layers]
    vertex, corner = split_vertices(corners, slot, mesh.corner_point, layers)
    stride = 12 + sum(_BYTES.get(one.kind, 4 * one.values.shape[1]) for one in mesh.layers)
    return len(corner), len(corner) * stride + vertex.size * (2 if len(corner) < 65_536 else 4)


def _strays(meant: Scene, named: Scene, assets: list[Asset], templates: Mapping[str, tuple[str, ...]]) -> list[str]:
    """What was meant to be something that the target does not take it for."""
    said = []
    for was, now in zip(meant.walk(), named.walk(), strict=True):
        if was.node.role != now.node.role and was.node.drawn is not None:
            wanted = " or ".join(templates.get(was.node.role, ())) or "no such thing"
            said.append(
                f"{was.node.name}: meant as {was.node.role}, taken as {now.node.role}; the target names {wanted}"
            )
    whole = {one.name for one in assets if any(placed.node.role == "visible" for placed in one.main)}
    for asset in assets_of(named):
        if asset.name not in whole and asset.rest:
            said.append(f"{asset.rest[0].node.name}: belongs to {asset.name}, which is not there")
    spelled: dict[str, list[str]] = {}
    for one in named.walk():
        spelled.setdefault(re.sub(r"\W", "", one.node.name.lower()), []).append(one.node.name)
    for names in spelled.values():
        if len(names) > 1:
            said.append(f"{' and '.join(names)}: names that differ only in case or signs would overwrite each other")
    return said
