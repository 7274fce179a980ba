"""One asset from files exported separately: its body, levels, collision."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from zesty_otter.audit.findings import Finding
from zesty_otter.model import Frame, Node, Note, Scene, format_length
from zesty_otter.steps.roles import Roles

_UNIT_SLIPS = (2.54, 10.0, 12.0, 25.4, 30.48, 39.37, 100.0, 304.8, 1000.0)


@dataclass(frozen=True, eq=False)
class ReadPart:
    """A part in the frame of the asset, and as it was ``read``."""

    stem: str
    role: str
    level: int
    scene: Scene
    read: Scene

    @property
    def frame(self) -> Frame:
        """The frame of its file."""
        return self.read.frame


def assembled(name: str, parts: list[ReadPart]) -> tuple[Scene, list[Finding]]:
    """One scene of all parts, and what does not fit together.

    Parameters
    ----------
    name : str
        The name of the asset.
    parts : list of ReadPart
        The body first, all in one frame.
    """
    body = Roles().apply(parts[0].scene)
    meshes = [placed for placed, _ in body.placed_meshes() if placed.node.role == "visible"]
    findings = list(_disagreements(parts))
    if len(meshes) == 1:
        # The one mesh of the body is the asset, whatever it was called.
        number = meshes[0].number
        body = body.rebuilt(lambda n, node: replace(node, name=name) if n == number else node)
        owner = name
    else:
        owner = meshes[0].node.name if meshes else name
    if parts[0].role != "visible":
        text = f"there is no body: no file is called {name}, only {', '.join(part.stem for part in parts)}"
        findings.append(Finding("assembly-body", "warning", text))
        body = _with_role(parts[0], owner)
    roots = list(body.roots)
    notes = list(body.notes)
    read_files = list(body.read_files)
    for part in parts[1:]:
        scene = _with_role(part, owner)
        roots += scene.roots
        notes += scene.notes
        read_files += [*([scene.source] if scene.source else []), *scene.read_files]
    if len(parts) > 1:
        notes.append(Note("done", f"assembled from {', '.join(part.stem for part in parts)}", "assemble"))
    whole = replace(body, roots=tuple(roots), name=name, notes=tuple(notes), read_files=tuple(read_files))
    return whole, findings


def _with_role(part: ReadPart, owner: str) -> Scene:
    """A part with the role its file says, on every mesh that does not say one itself."""
    scene = Roles().apply(part.scene)
    several = sum(1 for _ in scene.placed_meshes()) > 1
    counter = iter(range(1, 1 << 30))

    def make(node: Node) -> Node:
        if node.mesh is None:
            return node
        role = node.role if node.role != "visible" else part.role
        properties = {**node.properties, "asset": owner}
        if role == "level":
            properties["level"] = node.properties.get("level", part.level)
        new_name = f"{part.stem}_{next(counter)}" if several else part.stem
        return replace(node, name=new_name, role=role, properties=properties)

    return scene.map_nodes(make)


def _disagreements(parts: list[ReadPart]) -> Iterator[Finding]:
    """Frames, sizes and pivots of parts that are not those of the body."""
    body = parts[0]
    metre = body.scene.frame.unit or 1.0
    box = body.scene.bounds() * metre
    size = float(np.max(box[1] - box[0])) if np.isfinite(box).all() else 0.0
    for part in parts[1:]:
        if part.frame != body.frame:
            text = f"its file is in {part.frame}, that of {body.stem} in {body.frame}; both were brought into one"
            yield Finding("assembly-frame", "warning", text, part.stem)
        own = part.scene.bounds() * metre
        if size and np.isfinite(own).all():
            factor = float(np.max(own[1] - own[0])) / size
            slip = next((one for one in _UNIT_SLIPS for f in (one, 1 / one) if abs(factor / f - 1) < 0.02), None)
            if slip is not None:
                text = f"is {factor:.4g} times as large as {body.stem}: it seems to be in another unit"
                yield Finding("assembly-size", "warning", text, part.stem, f"scale factor={1 / factor:.4g}")
            elif part.role in ("level", "collision", "shadow") and not 0.8 < factor < 1.25:
                text = f"is {factor:.3g} times as large as {body.stem}"
                yield Finding("assembly-size", "warning", text, part.stem)
        away = _pivot_distance(body.scene, part.scene) * metre
        if away > 0.001:
            text = f"its pivot is {format_length(away)} away from that of {body.stem}"
            yield Finding("assembly-pivot", "warning", text, part.stem, "pivot at=base")


def _pivot_distance(one: Scene, other: Scene) -> float:
    places = [next((placed.world[:3, 3] for placed, _ in scene.placed_meshes()), np.zeros(3)) for scene in (one, other)]
    return float(np.linalg.norm(places[0] - places[1]))
