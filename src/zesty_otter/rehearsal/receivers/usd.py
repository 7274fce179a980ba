"""USD, text, binary or packed: prims below one root, drawn as a program does that follows references alone."""

from __future__ import annotations

import math
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.rehearsal.receivers import usd_binary, usd_text
from zesty_otter.rehearsal.receivers.faces import (
    Faces,
    Floats,
    UnknownFormError,
    all_of,
    place,
    placed_faces,
    require,
    rows_of,
    turned_about,
    turned_by,
)
from zesty_otter.rehearsal.receivers.usd_prims import Prim, Stage

_DRAWN = {"Cube", "Sphere", "Cone", "Cylinder", "Capsule", "Plane", "BasisCurves", "Points", "NurbsPatch", "SkelRoot"}


def received(path: Path) -> Faces:
    data = path.read_bytes()
    if path.suffix.lower() == ".usdz":
        data = _first_of(path, data)
    stage = usd_binary.stage(data) if data[:8] == b"PXR-USDC" else usd_text.stage(data)
    return all_of(_Drawing(stage).parts())


def _first_of(path: Path, data: bytes) -> bytes:
    with zipfile.ZipFile(path) as package:
        for one in package.infolist():
            require(one.compress_type == zipfile.ZIP_STORED, "a file of the package is compressed")
            name, extra = (int.from_bytes(data[one.header_offset + at :][:2], "little") for at in (26, 28))
            require((one.header_offset + 30 + name + extra) % 64 == 0, "a file of the package is not aligned")
        first = package.infolist()[0].filename
        require(first.rsplit(".", 1)[-1] in ("usdc", "usda", "usd"), "the first file of the package is no layer")
        return package.read(first)


@dataclass(frozen=True, eq=False)
class _Drawing:
    stage: Stage
    materials: dict[str, str] = field(default_factory=dict)

    def parts(self) -> Iterator[Faces]:
        roots = [path for path in self.stage if path.count("/") == 1]
        require(len(roots) == 1, "there is more than one root")
        waiting = [(roots[0], np.eye(4), "")]
        while waiting:
            path, above, bound = waiting.pop()
            prim = self.stage[path]
            if prim.specifier != "def" or prim.text("visibility") == "invisible":
                continue
            source = prim.meta.get("references", "")
            if source and source not in self.stage:
                raise UnknownFormError("references to other files")
            shown = self.stage[source] if source else None
            if shown is not None and prim.type == "Mesh":
                prim, shown = prim.over(shown), None
            if prim.type in _DRAWN:
                raise UnknownFormError(prim.type)
            world = above @ _matrix(prim)
            bound = prim.target("material:binding") or bound
            if prim.type == "Mesh":
                yield self._mesh(prim, world, bound)
            if prim.type == "PointInstancer":
                target = prim.target("prototypes")
                waiting += [(target, world @ copy, bound) for copy in _copies(prim)]
                continue
            children = [*prim.children, *(shown.children if shown is not None else ())]
            waiting += [(child, world, bound) for child in reversed(children)]

    def _mesh(self, prim: Prim, world: Floats, bound: str) -> Faces:
        sizes = prim.numbers("faceVertexCounts").astype(np.int64)
        index: NDArray[np.int64] = prim.numbers("faceVertexIndices").astype(np.int64)
        points = prim.rows("points", 3)
        require(int(sizes.sum()) == len(index), "faces have other corners than said")
        require(not len(sizes) or sizes.min() >= 3, "a face has fewer than three corners")
        require(prim.text("subdivisionScheme") == "none", "a mesh is a cage, not what is drawn")
        of_face, materials = np.zeros(len(sizes), np.int64), [bound]
        for path in prim.children:
            subset = self.stage[path]
            if subset.type == "GeomSubset":
                members = subset.numbers("indices").astype(np.int64)
                require(not len(members) or (members.min() >= 0 and members.max() < len(sizes)), "a subset is beyond")
                of_face[members] = len(materials)
                materials.append(subset.target("material:binding"))
        of_corner = np.repeat(of_face, sizes)
        uvs: NDArray[Any] = np.full((len(index), 2), np.nan)
        for number, material in enumerate(materials):
            own = of_corner == number
            found = self._uvs(prim, material, index) if own.any() else None
            if found is not None:
                uvs[own] = found[own]
        used = set(np.unique(of_face).tolist())
        return placed_faces(
            world,
            rows_of(points, index, "points"),
            sizes,
            normals=_spread(prim, "normals", 3, index),
            uvs=uvs,
            colors=_spread(prim, "primvars:displayColor", 3, index),
            material=of_face,
            names=[self._name(path) if number in used else "" for number, path in enumerate(materials)],
        )

    def _name(self, path: str) -> str:
        if not path:
            return ""
        require(path in self.stage and self.stage[path].type == "Material", f"{path} is no material")
        return self.stage[path].meta.get("displayName", self.stage[path].name)

    def _uvs(self, mesh: Prim, material: str, index: NDArray[np.int64]) -> Floats | None:
        """The UVs at which the texture of a material's colour is looked up; the first ones where there is none."""
        shader = self._connected(self._connected(self.stage.get(material), "outputs:surface"), "inputs:diffuseColor")
        if shader is None or shader.text("info:id") != "UsdUVTexture":
            return _spread(mesh, "primvars:st", 2, index)
        moved = reader = self._connected(shader, "inputs:st")
        if reader is not None and reader.text("info:id") == "UsdTransform2d":
            reader = self._connected(reader, "inputs:in")
        if reader is None or moved is None:
            return None
        found = _spread(mesh, f"primvars:{reader.text('inputs:varname')}", 2, index)
        if found is None or moved is reader:
            return found
        scale, shift = moved.numbers("inputs:scale"), moved.numbers("inputs:translation")
        angle = math.radians(float(moved.numbers("inputs:rotation")[0]))
        cos, sin = math.cos(angle), math.sin(angle)
        return np.asarray((found * scale) @ np.array([[cos, sin], [-sin, cos]]) + shift)

    def _connected(self, prim: Prim | None, name: str) -> Prim | None:
        """The prim that one gets a value from."""
        if prim is None:
            return None
        source = prim.target(f"{name}.connect").partition(".")[0]
        require(not source or source in self.stage, f"{source} is not there")
        return self.stage.get(source)


def _spread(prim: Prim, name: str, width: int, index: NDArray[np.int64]) -> Floats | None:
    """The values of a primvar at every corner."""
    if name not in prim.values:
        return None
    table, how = prim.rows(name, width), prim.meta.get(f"{name} interpolation", "")
    if how not in ("vertex", "varying", "faceVarying"):
        raise UnknownFormError(f"interpolation {how or 'that is not said'}")
    row = np.arange(len(index)) if how == "faceVarying" else index
    if f"{name}:indices" in prim.values:
        of = prim.numbers(f"{name}:indices").astype(np.int64)
        require(len(row) == 0 or row.max() < len(of), f"{name} has too few indices")
        row = of[row]
    return rows_of(table, row, name)


def _copies(prim: Prim) -> list[Floats]:
    moves, kinds = prim.rows("positions", 3), prim.numbers("protoIndices")
    if len(prim.texts("prototypes")) != 1:
        raise UnknownFormError("several prototypes")
    scales = prim.rows("scales", 3) if "scales" in prim.values else np.ones((len(moves), 3))
    turns = np.tile([0.0, 0, 0, 1], (len(moves), 1))
    for name in ("orientations", "orientationsf"):
        if name in prim.values:
            turns = prim.rows(name, 4)[:, [1, 2, 3, 0]]
    require(len(moves) == len(scales) == len(turns) == len(kinds), "copies differ in number")
    turns = turns / np.linalg.norm(turns, axis=1, keepdims=True)  # of half precision
    return [place(*one) for one in zip(moves, map(turned_by, turns), scales, strict=True)]


def _matrix(prim: Prim) -> Floats:
    world = np.eye(4)
    for word in prim.texts("xformOpOrder"):
        name = word.removeprefix("!invert!")
        if name not in prim.values:
            raise UnknownFormError(word)
        own = _operation(name.split(":")[1], prim.numbers(name))
        world = world @ (np.linalg.inv(own) if name != word else own)
    return world


def _operation(kind: str, values: Floats) -> Floats:
    if kind == "translate":
        return place(values)
    if kind == "scale":
        return place(scale=values)
    if kind == "transform":
        return values.reshape(4, 4).T
    if kind == "orient":
        return place(rotation=turned_by(np.roll(values, -1) / np.linalg.norm(values)))
    if not kind.startswith("rotate") or set(kind[6:]) - set("XYZ"):
        raise UnknownFormError(kind)
    turn = np.eye(3)
    for letter in kind[6:]:  # the first one is done first
        angle = float(values["XYZ".index(letter)] if len(values) > 1 else values[0])
        turn = turned_about([float(letter == one) for one in "XYZ"], math.radians(angle)) @ turn
    return place(rotation=turn)
