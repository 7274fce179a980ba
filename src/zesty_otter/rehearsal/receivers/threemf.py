"""3MF, after its core specification (3MF Consortium, version 1.3): objects, components and the build."""

from __future__ import annotations

import posixpath
import zipfile
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
    numbers,
    placed_faces,
    require,
    rows_of,
    whole_numbers,
)

_CORE = {"m": "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"}
_START = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"


def received(path: Path) -> Faces:
    with zipfile.ZipFile(path) as package:
        require("[Content_Types].xml" in package.namelist(), "the package does not say its types")
        relations = etree.fromstring(package.read("_rels/.rels"))
        targets = [one.get("Target", "") for one in relations if one.get("Type") == _START]
        require(len(targets) == 1, "the package does not say its model")
        parser = etree.XMLParser(resolve_entities=False, huge_tree=True)
        root = etree.fromstring(package.read(posixpath.normpath(targets[0]).lstrip("/")), parser)
    if root.get("requiredextensions"):
        raise UnknownFormError(f"extensions {root.get('requiredextensions')}")
    return all_of(_Model(root).parts())


class _Model:
    def __init__(self, root: Any) -> None:
        self.root = root
        ids = root.xpath("m:resources/*/@id", namespaces=_CORE)
        require(len(ids) == len(set(ids)), "an id is there twice")
        self.objects = {one.get("id"): one for one in root.xpath("m:resources/m:object", namespaces=_CORE)}
        self.bases = {
            one.get("id"): one.xpath("m:base/@name", namespaces=_CORE)
            for one in root.xpath("m:resources/m:basematerials", namespaces=_CORE)
        }

    def parts(self) -> Iterator[Faces]:
        waiting = [(one, np.eye(4)) for one in self.root.xpath("m:build/m:item", namespaces=_CORE)]
        while waiting:
            item, above = waiting.pop()
            require(item.get("objectid") in self.objects, "what is placed is not there")
            world, thing = above @ _matrix(item.get("transform")), self.objects[item.get("objectid")]
            inside = thing.xpath("m:components/m:component", namespaces=_CORE)
            waiting += [(one, world) for one in reversed(inside)]
            for mesh in thing.xpath("m:mesh", namespaces=_CORE):
                yield self._triangles(mesh, thing, world)

    def _triangles(self, mesh: Any, thing: Any, world: Floats) -> Faces:
        def column(path: str) -> list[str]:
            return list(mesh.xpath(path, namespaces=_CORE))

        points = np.stack([numbers(" ".join(column(f"m:vertices/m:vertex/@{axis}"))) for axis in "xyz"], axis=1)
        index = [whole_numbers(" ".join(column(f"m:triangles/m:triangle/@{key}"))) for key in ("v1", "v2", "v3")]
        corners = np.stack(index, axis=1)
        require(bool((np.diff(np.sort(corners, axis=1), axis=1) > 0).all()), "a triangle has one point twice")
        which, names = np.zeros(len(corners), np.int64), [self._material(thing.get("pid"), thing.get("pindex"))]
        groups, index_of = column("m:triangles/m:triangle/@pid"), column("m:triangles/m:triangle/@p1")
        if groups:
            if not len(groups) == len(index_of) == len(corners):
                raise UnknownFormError("properties of some triangles")
            pairs, which = np.unique(np.array([groups, index_of], str), axis=1, return_inverse=True)
            names = [self._material(str(group), str(index)) for group, index in pairs.T]
            which = which.ravel()
        return placed_faces(
            world,
            rows_of(points, corners.ravel(), "vertices"),
            np.full(len(corners), 3),
            material=which,
            names=names,
        )

    def _material(self, group: str | None, index: str | None) -> str:
        if group is None or group not in self.bases:
            return ""
        require(int(index or 0) < len(self.bases[group]), "a property points nowhere")
        return str(self.bases[group][int(index or 0)])


def _matrix(text: str | None) -> Floats:
    matrix = np.eye(4)
    if text:
        rows = numbers(text).reshape(4, 3)
        matrix[:3] = rows.T
    return matrix
