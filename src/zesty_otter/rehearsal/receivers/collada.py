"""COLLADA, after the specification of its version 1.4.1 (Khronos Group, 2008)."""

from __future__ import annotations

import math
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
    rows_of,
    said_rows,
    turned_about,
    whole_numbers,
)

_SPACE = {"c": "http://www.collada.org/2005/11/COLLADASchema"}


def received(path: Path) -> Faces:
    root = etree.fromstring(path.read_bytes(), etree.XMLParser(resolve_entities=False, huge_tree=True))
    if root.tag != f"{{{_SPACE['c']}}}COLLADA":
        raise UnknownFormError("another version of COLLADA")
    return all_of(_Document(root).parts())


class _Document:
    def __init__(self, root: Any) -> None:
        self.root = root
        with_id = root.xpath("//*[@id]")
        self.ids = {one.get("id"): one for one in with_id}
        require(len(self.ids) == len(with_id), "an id is there twice")

    def find(self, element: Any, path: str) -> list[Any]:
        found = element.xpath(path, namespaces=_SPACE)
        return list(found)

    def of(self, url: str | None) -> Any:
        """What an address points to."""
        name = (url or "")[1:]
        require(name in self.ids, f"{url} points nowhere")
        return self.ids[name]

    def parts(self) -> Iterator[Faces]:
        (instance,) = self.find(self.root, "c:scene/c:instance_visual_scene")
        waiting = [(one, np.eye(4)) for one in self.find(self.of(instance.get("url")), "c:node")]
        while waiting:
            node, above = waiting.pop()
            world = above @ _matrix(node)
            waiting += [(one, world) for one in self.find(node, "c:node")]
            waiting += [(self.of(one.get("url")), world) for one in self.find(node, "c:instance_node")]
            if self.find(node, "c:instance_controller"):
                raise UnknownFormError("controllers")
            for one in self.find(node, "c:instance_geometry"):
                bound = {m.get("symbol"): m for m in self.find(one, ".//c:instance_material")}
                for primitive in self.find(self.of(one.get("url")), "c:mesh/*[c:p]"):
                    yield self._primitive(primitive, world, bound)

    def _table(self, url: str) -> Floats:
        (accessor,) = self.find(self.of(url), "c:technique_common/c:accessor")
        array = self.of(accessor.get("source"))
        values, stride = numbers(array.text), int(accessor.get("stride", 1))
        require(len(values) == _whole(array, "count"), "an array has another number of values than it says")
        require(len(values) == _whole(accessor, "count") * stride, "an accessor has other values than it says")
        return values.reshape(-1, stride)

    def _primitive(self, primitive: Any, world: Floats, bound: dict[str, Any]) -> Faces:
        kind = etree.QName(primitive).localname
        if kind not in ("triangles", "polylist"):
            raise UnknownFormError(kind)
        material, wanted = "", 0
        if symbol := primitive.get("material"):
            require(symbol in bound, f"material {symbol} is not bound")
            element = self.of(bound[symbol].get("target"))
            material, wanted = element.get("name", element.get("id")), self._uv_set(element, bound[symbol])
        tables: dict[str, tuple[Floats, int]] = {}
        width = 0
        for one in self.find(primitive, "c:input"):
            name, offset = one.get("semantic"), _whole(one, "offset")
            width = max(width, offset + 1)
            if name == "VERTEX":
                for inner in self.find(self.of(one.get("source")), "c:input"):
                    tables[inner.get("semantic")] = self._table(inner.get("source")), offset
            elif name in ("NORMAL", "COLOR", "TEXCOORD") and (
                name != "TEXCOORD" or int(one.get("set", 0)) == wanted
            ):  # the first set of colours counts
                tables.setdefault(name, (self._table(one.get("source")), offset))
        rows = whole_numbers(primitive.findtext("c:p", namespaces=_SPACE)).reshape(-1, width)
        sizes = np.full(len(rows) // 3, 3)
        if kind == "polylist":
            sizes = whole_numbers(primitive.findtext("c:vcount", namespaces=_SPACE))
        require(len(sizes) == _whole(primitive, "count"), "there are other polygons than said")
        require(int(sizes.sum()) == len(rows), "polygons have other corners than said")

        def said(name: str, count: int) -> Floats | None:
            if name not in tables:
                return None
            table, offset = tables[name]
            return said_rows(table, rows[:, offset], count, name)

        require("POSITION" in tables, "its polygons have no positions")
        table, offset = tables["POSITION"]
        colors = said("COLOR", 3)
        return placed_faces(
            world,
            rows_of(table[:, :3], rows[:, offset], "positions"),
            sizes,
            normals=said("NORMAL", 3),
            uvs=said("TEXCOORD", 2),
            colors=None if colors is None else light(colors),
            names=[material],
        )

    def _uv_set(self, material: Any, binding: Any) -> int:
        """The set that the texture of the colour is looked up by."""
        effect = self.of(self.find(material, "c:instance_effect")[0].get("url"))
        called = [one.get("texcoord") for one in self.find(effect, ".//c:diffuse/c:texture")]
        for one in self.find(binding, "c:bind_vertex_input") if called else ():
            if one.get("semantic") == called[0]:
                return int(one.get("input_set", 0))
        require(not called, "the UVs of a texture are not bound")
        return 0


def _whole(element: Any, name: str) -> int:
    """An attribute that is a whole number."""
    text = element.get(name)
    require(text is not None, f"{etree.QName(element).localname} does not say its {name}")
    return int(text)


def _matrix(node: Any) -> Floats:
    world = np.eye(4)
    for one in node:
        kind = etree.QName(one).localname if isinstance(one.tag, str) else ""
        if kind == "matrix":
            world = world @ numbers(one.text).reshape(4, 4)
        elif kind == "translate":
            world = world @ place(numbers(one.text))
        elif kind == "scale":
            world = world @ place(scale=numbers(one.text))
        elif kind == "rotate":
            x, y, z, angle = numbers(one.text).tolist()
            world = world @ place(rotation=turned_about((x, y, z), math.radians(angle)))
        elif kind in ("lookat", "skew"):
            raise UnknownFormError(kind)
    return world
