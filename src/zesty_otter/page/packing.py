"""A scene as the page takes it: the GLB we write, which of its edges are those of polygons, and facts about nodes."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.findings import Finding
from zesty_otter.audit.footing import standing_on
from zesty_otter.audit.surveying import node_facts
from zesty_otter.errors import ZestyOtterError
from zesty_otter.formats import format_named
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import (
    Frame,
    Mesh,
    Node,
    Placed,
    Scatter,
    Scene,
    content_bounds,
    count_of,
    reframed,
    seen_bounds,
)
from zesty_otter.pictures.edges import edge_kinds
from zesty_otter.steps import Roles, Textures
from zesty_otter.steps.assets import Asset, assets_of, level_of

FRAME = Frame("left up forward", "m")
"""The space of everything that is packed."""

_MOST_COPIES = 100_000
_DRAWN = 6_000_000  # triangles of all copies of a scatter
_LEAST = 12
_QUANTIZED_FROM = 2_000  # triangles; it takes longer than it saves below
_MOST_NODES = 20_000  # whose facts are sent


@dataclass(frozen=True)
class Budget:
    """How heavy a packed scene may be.

    Parameters
    ----------
    triangles : int
        Of all meshes together, each counted once.
    pixels : int or None
        The longest side of a texture.
    """

    triangles: int = 3_000_000
    pixels: int | None = None


PAGE = Budget()
"""Of a page of this machine."""


@dataclass(frozen=True)
class Packed:
    """A scene as the page takes it.

    Parameters
    ----------
    model : bytes
        A GLB, quantized unless it is a small one. Nodes carry their number in the walk as the property ``look``,
        meshes that of the first of their triangles in ``edges`` as ``edges``. Empty when there is nothing to draw.
    edges : bytes
        Three bytes a triangle, one for each of its edges: 0 where it is inside a polygon or another triangle has
        the same edge, else 1 and its place in `zesty_otter.pictures.edges.KINDS`.
    facts : dict
        What the page says of it, as plain data. Lengths are in metres, places in the axes left, up, forward.
    """

    model: bytes
    edges: bytes
    facts: dict[str, Any]


def pack(scene: Scene, budget: Budget = PAGE) -> Packed:
    """Make what the page shows of a scene.

    Parameters
    ----------
    scene : Scene
        One without a unit is shown as if it were in metres.
    budget : Budget
        Meshes beyond it are shown as their level, or reduced, and a remark says so.

    Returns
    -------
    Packed

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (2, 3, 0), (0, 3, 0)], [(0, 1, 2, 3)])
    >>> packed = pack(zo.Scene.from_mesh(sail))
    >>> packed.model[:4], sum(byte > 0 for byte in packed.edges), packed.facts["nodes"][0]["name"]
    (b'glTF', 4, 'sail')
    """
    own = Roles().apply(scene)
    remarks: list[str] = []
    if scene.frame.unit is None:
        own = replace(own, frame=Frame(" ".join(scene.frame.axes), "m"))
        remarks.append("the file does not say its unit; lengths are shown as if it were metres")
    facts = _facts(own, scene)
    shown = reframed(own, FRAME)
    shown = _lighter(shown, budget, remarks)
    if budget.pixels is not None:
        shown = Textures(largest=budget.pixels).apply(shown)
    model, edges = _encoded(shown, remarks)
    return Packed(model, edges, {**facts, "remarks": remarks})


def as_written(scene: Scene, data: bytes) -> Packed | None:
    """What the page shows of a light GLB without textures, which needs not be made again.

    Parameters
    ----------
    scene : Scene
        What was read from it.
    data : bytes

    Returns
    -------
    Packed or None
        With the file itself as its model, whose nodes are those of the scene, and no table of edges. None where the
        page could not show the file as it is.
    """
    if scene.frame != FRAME or scene.textures or data[:4] != b"glTF":
        return None
    document = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
    if document.get("extensionsRequired") or len(document.get("nodes", ())) != sum(1 for _ in scene.walk()):
        return None
    if sum(mesh.triangle_count for mesh in scene.meshes) >= _QUANTIZED_FROM:
        return None
    return Packed(data, b"", {**_facts(scene, scene), "remarks": [], "plain": True})


def _encoded(scene: Scene, remarks: list[str]) -> tuple[bytes, bytes]:
    """The GLB of a scene, and the edges of polygons of its meshes."""
    parts: list[NDArray[np.uint8]] = []
    begin: dict[int, int] = {}
    total = 0
    for mesh in scene.meshes:
        if mesh.face_count:
            parts.append(_polygon_edges(mesh))
            begin[id(mesh)] = total
            total += len(parts[-1])
    marked = scene.map_meshes(
        lambda mesh: mesh.replace(properties={"edges": begin[id(mesh)]}) if id(mesh) in begin else mesh
    )
    light = total < _QUANTIZED_FROM
    numbered = marked.rebuilt(lambda n, node: replace(node, properties={"look": n}))
    try:
        encoded = format_named("glb").encode(
            replace(numbered, properties={}), "look.glb", keep_hidden=True, quantized=not light
        )
    except ZestyOtterError as error:
        remarks.append(f"nothing to draw: {error.problem}")
        return b"", b""
    return encoded.joined()["look.glb"], np.concatenate(parts).tobytes()


def _polygon_edges(mesh: Mesh) -> NDArray[np.uint8]:
    """(T, 3) for the triangles of a mesh in the order in which they are written, as `Packed.edges` says."""
    corners, face = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
    following = corners[:, [1, 2, 0]]
    edges = mesh.surface(topology)
    edge = edges.corner_edge[corners]
    drawn = (mesh.corner_after[corners] == following) & (edges.first[edge] == corners)
    found = np.where(drawn, edge_kinds(mesh)[edge] + 1, 0).astype(np.uint8)
    slot = mesh.slot_of_face[face] if len(mesh.slots) > 1 else None
    return found if slot is None else found[np.argsort(slot, kind="stable")]


def _lighter(scene: Scene, budget: Budget, remarks: list[str]) -> Scene:
    """The scene with meshes that are too heavy shown as their level, or reduced."""
    copies: dict[int, int] = {}
    for one in scene.walk():
        content = one.node.content
        if isinstance(content, Scatter):
            copies[id(content.mesh)] = max(copies.get(id(content.mesh), 1), min(content.count, _MOST_COPIES))
    meshes = [mesh for mesh in scene.meshes if mesh.face_count]
    most = _share([mesh.triangle_count for mesh in meshes], budget.triangles)
    wanted = {id(mesh): max(min(most, _DRAWN // copies.get(id(mesh), 1)), _LEAST) for mesh in meshes}
    heavy = [mesh for mesh in meshes if mesh.triangle_count > wanted[id(mesh)]]
    if heavy:
        levels = _levels_of(scene)
        shown = {id(mesh): _reduced(mesh, wanted[id(mesh)], levels.get(id(mesh), []), remarks) for mesh in heavy}
        scene = scene.map_meshes(lambda mesh: shown.get(id(mesh), mesh))

    def fewer(node: Node) -> Node:
        scatter = node.content
        if not isinstance(scatter, Scatter) or scatter.count <= _MOST_COPIES:
            return node
        remarks.append(f"{node.name}: {_MOST_COPIES:,} of {scatter.count:,} copies are shown")
        taken = scatter.take(np.linspace(0, scatter.count - 1, _MOST_COPIES).astype(np.int64))
        return replace(node, content=taken)

    return scene.map_nodes(fewer)


def _share(counts: list[int], total: int) -> int:
    """The most that each may have, so that all together have no more than a total."""
    left, low = total, 0
    for number, count in enumerate(sorted(counts)):
        share = left // (len(counts) - number)
        if count > share:
            return max(share, _LEAST)
        left, low = left - count, count
    return max(low, _LEAST)


def _levels_of(scene: Scene) -> dict[int, list[Mesh]]:
    """The meshes of the levels of each mesh, heaviest first."""
    found: dict[int, list[Mesh]] = {}
    for asset in assets_of(scene):
        levels = [one.node.drawn for one in asset.rest if one.node.role == "level" and one.node.drawn is not None]
        for one in asset.main if len(asset.main) == 1 else ():
            if one.node.drawn is not None:
                found[id(one.node.drawn)] = sorted(levels, key=lambda mesh: -mesh.triangle_count)
    return found


def _reduced(mesh: Mesh, triangles: int, levels: list[Mesh], remarks: list[str]) -> Mesh:
    fitting = next((one for one in levels if 0 < one.triangle_count <= triangles), None)
    if fitting is not None:
        remarks.append(f"{mesh.name}: shown as its level of {count_of(fitting.triangle_count, 'triangle')}")
        return fitting
    from zesty_otter.steps.lighter import HeavyMesh

    (light,) = HeavyMesh(mesh, limit=1.0).lightened([triangles])
    remarks.append(
        f"{mesh.name}: shown with {light.triangle_count:,} of its {count_of(mesh.triangle_count, 'triangle')}"
    )
    return light


def _facts(scene: Scene, source: Scene) -> dict[str, Any]:
    """What the page says of a scene that has a unit."""
    metre = scene.frame.unit or 1.0
    basis = scene.frame.basis * metre
    placed = list(scene.walk())
    box = seen_bounds(scene)
    nodes = [_node(one, scene, basis) for one in placed[:_MOST_NODES]]
    assets = [_asset(one) for one in assets_of(scene)]
    return {
        "name": scene.name or (source.source.name if source.source else ""),
        "axes": list(scene.frame.axes),
        "directions": scene.frame.basis.T.tolist(),
        "unit": source.frame.unit,
        "bounds": _box(box, basis) if np.isfinite(box).all() else None,
        "nodes": nodes,
        "left_out": max(len(placed) - _MOST_NODES, 0),
        "assets": assets,
        "kinds": _kinds(placed),
        "notes": [str(note) for note in source.notes if note.kind != "done"],
    }


def _kinds(placed: list[Placed]) -> dict[str, int]:
    """How many nodes show something in each role, and how many meshes have colours."""
    shown = [one for one in placed if one.node.drawn is not None and one.node.drawn.face_count]
    counts: dict[str, int] = {}
    for one in shown:
        counts[one.node.role] = counts.get(one.node.role, 0) + 1
    colored = any(one.node.drawn.layers_of("color") for one in shown if one.node.drawn is not None)
    return {**counts, "colors": int(colored)}


def _node(placed: Placed, scene: Scene, basis: NDArray[np.float64]) -> dict[str, Any]:
    facts = node_facts(placed, scene)
    metre = scene.frame.unit or 1.0
    box = content_bounds(placed) if placed.node.drawn is not None else None
    return {
        "name": placed.node.name,
        "parent": placed.parent,
        "role": facts.role,
        "visible": placed.visible,
        "kind": facts.kind,
        "about": facts.about,
        "mesh": facts.mesh,
        "slots": list(facts.slots),
        "triangles": facts.triangles,
        "faces": None if facts.faces is None else [facts.faces.triangles, facts.faces.quads, facts.faces.ngons],
        "points": facts.points,
        "uvs": facts.uv_sets,
        "copies": facts.copies,
        "size": None if facts.size is None else [side * metre for side in facts.size],
        "leftover": list(facts.leftover),
        "pivot": _plain(basis @ placed.world[:3, 3]),
        "box": _box(box, basis) if box is not None and np.isfinite(box).all() else None,
        "level": level_of(placed.node),
        "distance": _number(placed.node.properties.get("distance")),
        "print": _print(placed),
    }


def _print(placed: Placed) -> list[str]:
    """Two short hashes: of where a node stands, and of what it shows there."""
    where = hashlib.blake2b(np.round(placed.world, 9).tobytes(), digest_size=6)
    what = hashlib.blake2b(digest_size=6)
    mesh = placed.node.drawn
    if mesh is not None:
        for array in (mesh.points, mesh.corner_point, *(one.values for one in mesh.layers)):
            what.update(np.ascontiguousarray(array).data)
        for slot in mesh.slots:
            what.update(
                repr(slot and (slot.name, slot.base_color, slot.metallic, slot.roughness, slot.two_sided)).encode()
            )
    if isinstance(placed.node.content, Scatter):
        where.update(np.ascontiguousarray(placed.node.content.transforms).data)
    return [where.hexdigest(), what.hexdigest()]


def _asset(asset: Asset) -> dict[str, Any]:
    """One asset with its levels: for each the nodes that show it, and from which distance."""
    levels: dict[int, list[Placed]] = {}
    for one in (*asset.main, *asset.rest):
        if one.node.role == "level" and one.node.drawn is not None:
            levels.setdefault(level_of(one.node), []).append(one)
    return {
        "name": asset.name,
        "main": [one.number for one in asset.main if one.node.role != "level"],
        "levels": [_level(number, levels[number]) for number in sorted(levels)],
    }


def _level(number: int, nodes: list[Placed]) -> dict[str, Any]:
    distances = [_number(one.node.properties.get("distance")) for one in nodes]
    distance = next((one for one in distances if one), None)
    return {"number": number, "nodes": [one.number for one in nodes], "distance": distance}


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and math.isfinite(value) else None


def _plain(values: Iterable[float]) -> list[float]:
    return [float(f"{value:.7g}") for value in values]


def _box(box: NDArray[np.float64], basis: NDArray[np.float64]) -> list[list[float]]:
    ends = (basis @ box.T).tolist()
    return [_plain(map(min, ends)), _plain(map(max, ends))]


def finding_facts(finding: Finding, scene: Scene) -> dict[str, Any]:
    """A finding as plain data: its place in the axes left, up, forward, and the numbers of the nodes it is about."""
    place = None
    if finding.place is not None:
        place = _plain(scene.frame.basis @ np.array(finding.place))
    return {
        "rule": finding.rule,
        "severity": finding.severity,
        "text": finding.text,
        "where": finding.node,
        "mend": finding.mend,
        "place": place,
        "nodes": list(_nodes_of(finding.node, scene)),
    }


def _nodes_of(name: str, scene: Scene) -> Iterator[int]:
    """The nodes that a finding is about: called like that, or showing a mesh or a material called like that."""
    if not name:
        return
    for one in scene.walk():
        mesh = one.node.drawn
        names = {one.node.name, "/".join(one.path)}
        if mesh is not None:
            names |= {mesh.name, *(slot.name for slot in mesh.slots if slot)}
        if name in names:
            yield one.number


def footing_places(scene: Scene, count: int = 20_000) -> bytes:
    """Where one can stand, and how far feet would float (above 0) or sink there.

    Parameters
    ----------
    scene : Scene
    count : int
        How many places of each asset to look at.

    Returns
    -------
    bytes
        Four float32 for each place: it, in metres and in the axes left, up, forward, and the gap; NaN where feet
        fall through.
    """
    scene = Roles().apply(scene)
    found = standing_on(scene, count=count)
    return np.column_stack([found.place @ scene.frame.basis.T, found.gap]).astype("<f4").tobytes()
