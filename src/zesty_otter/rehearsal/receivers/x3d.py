"""X3D in XML, after ISO/IEC 19775-1 and 19776-1: indexed face sets below transforms."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree

from zesty_otter.rehearsal.receivers.faces import (
    Faces,
    Floats,
    UnknownFormError,
    all_of,
    light,
    numbers,
    place,
    placed_faces,
    require,
    said_rows,
    turned_about,
    whole_numbers,
)

_UNKNOWN = {
    "ProtoInstance",
    "Inline",
    "ElevationGrid",
    "Extrusion",
    "IndexedTriangleSet",
    "TriangleSet",
    "HAnimHumanoid",
}


def received(path: Path) -> Faces:
    root = etree.fromstring(path.read_bytes(), etree.XMLParser(resolve_entities=False, huge_tree=True))
    return all_of(_World(root).parts())


class _World:
    def __init__(self, root: Any) -> None:
        named = root.xpath("//*[@DEF]")
        self.defined = {one.get("DEF"): one for one in named}
        require(len(self.defined) == len(named), "a DEF is there twice")
        (self.scene,) = root.iter("Scene")

    def meant(self, element: Any) -> Any:
        """What an element is, or stands for."""
        name = element.get("USE")
        require(name is None or name in self.defined, f"USE {name} is of nothing")
        return element if name is None else self.defined[name]

    def parts(self) -> Iterator[Faces]:
        waiting = [(self.scene, np.eye(4))]
        while waiting:
            element, world = waiting.pop()
            if not isinstance(element.tag, str):
                continue
            if element.tag in _UNKNOWN:
                raise UnknownFormError(element.tag)
            if element.tag == "Transform":
                world = world @ _matrix(element)
            if element.tag == "Shape":
                yield self._shape(element, world)
            elif element.tag == "LOD":
                waiting += [(self.meant(one), world) for one in reversed(element)]
            elif element.tag == "Switch":
                chosen = int(element.get("whichChoice", "-1"))
                waiting += [(self.meant(one), world) for one in list(element)[chosen : chosen + 1] if chosen >= 0]
            else:
                waiting += [(self.meant(one), world) for one in reversed(element)]

    def _within(self, element: Any) -> dict[str, Any]:
        return {one.tag: one for one in map(self.meant, element) if isinstance(one.tag, str)}

    def _shape(self, element: Any, world: Floats) -> Faces:
        inside = self._within(element)
        if "IndexedFaceSet" not in inside:
            raise UnknownFormError("shapes other than indexed face sets")
        look = self._within(inside["Appearance"]) if "Appearance" in inside else {}
        name = ""
        if "Material" in look:
            name = look["Material"].get("DEF", "")
            for one in look["Material"].xpath(".//*[@name='name']/@value"):
                name = one.strip('"')
        faces = inside["IndexedFaceSet"]
        if faces.get("ccw", "true") != "true" or "false" in (
            faces.get("normalPerVertex", "true"), faces.get("colorPerVertex", "true")
        ):  # fmt: skip
            raise UnknownFormError("values for faces, or clockwise ones")
        tables = self._within(faces)
        require("Coordinate" in tables, "a face set has no coordinates")
        color = next((one for tag, one in tables.items() if tag.startswith("Color")), None)
        width = 4 if color is not None and color.tag == "ColorRGBA" else 3
        corner = whole_numbers(faces.get("coordIndex"))
        if len(corner) and corner[-1] != -1:
            corner = np.append(corner, -1)
        used = corner >= 0
        ends = np.flatnonzero(~used)
        sizes = np.diff(ends, prepend=-1) - 1

        def said(key: str, text: str | None, columns: int) -> Floats | None:
            if text is None:
                return None
            table = numbers(text).reshape(-1, columns)
            index = whole_numbers(faces.get(key)) if faces.get(key) else corner
            index = index if len(index) == len(corner) else np.append(index, -1)
            require(len(index) == len(corner), f"{key} has another number of corners")
            return said_rows(table, index[used], columns, key)

        uvs = tables.get("TextureCoordinate")
        points = said("coordIndex", tables["Coordinate"].get("point"), 3)
        assert points is not None
        require(bool((sizes >= 3).all()), "a face has fewer than three corners")
        colors = said("colorIndex", None if color is None else color.get("color"), width)
        return placed_faces(
            world,
            points,
            sizes,
            normals=said("normalIndex", tables["Normal"].get("vector") if "Normal" in tables else None, 3),
            uvs=said("texCoordIndex", uvs.get("point") if uvs is not None else None, 2),
            colors=None if colors is None else light(colors[:, :3]),
            names=[name],
        )


def _matrix(element: Any) -> Floats:
    centre = place(numbers(element.get("center", "0 0 0")))
    x, y, z, angle = numbers(element.get("rotation", "0 0 1 0")).tolist()
    turn = place(rotation=turned_about((x, y, z), angle))
    x, y, z, angle = numbers(element.get("scaleOrientation", "0 0 1 0")).tolist()
    along = place(rotation=turned_about((x, y, z), angle))
    scale = along @ place(scale=numbers(element.get("scale", "1 1 1"))) @ along.T
    moved = place(numbers(element.get("translation", "0 0 0")))
    return np.asarray(moved @ centre @ turn @ scale @ np.linalg.inv(centre))
