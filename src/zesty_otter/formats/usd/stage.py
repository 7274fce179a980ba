"""Layers, as text or binary, composed into one tree of prims.

The strength ordering of USD ("LIVRPS"): what a prim says itself, what it inherits, its chosen variants, what
it references, its payloads, what it specializes; and the sublayers of every layer, the first strongest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from zesty_otter.errors import InputError
from zesty_otter.formats.usd import crate
from zesty_otter.formats.usd.text import Asset, Prim, Property, Target, UsdSyntaxError, listed, parse, word_in

Fetch = Callable[[str, str], tuple[str, bytes] | None]
"""The key and the bytes of the layer that one layer names another, None when it is not to be had."""

_DEEPEST = 40
_MOST_PRIMS = 200_000


class Stage:
    """Everything a root layer shows. ``remarks`` say what could not be had."""

    def __init__(self, name: str, data: bytes, fetch: Fetch) -> None:
        self.fetch = fetch
        self.layers: dict[str, Prim] = {}
        self.remarks: dict[str, None] = {}
        self.count = 0
        self.root_key = name
        self.layers[name] = self._parsed(name, data)
        self.root = self._stack(name, ())

    def prims(self) -> Iterator[Prim]:
        """The composed root prims that are defined."""
        for child in self.root.children.values():
            yield self._composed(child, f"/{child.name}", self.root_key, 0, ())

    def _parsed(self, name: str, data: bytes) -> Prim:
        if data.startswith(crate.MAGIC):
            try:
                return crate.parse(data, name)
            except crate.CrateError as error:
                raise InputError(f"is not sound binary USD: {error}.", file=name, remedy="Export it again.") from None
        try:
            return parse(data, name)
        except UsdSyntaxError as error:
            problem = f"is not USD text: {error}."
            raise InputError(problem, file=name, place=f"line {error.line}") from None

    def _layer(self, asset: Asset) -> str | None:
        """The key of the layer an asset names, read when first asked for."""
        found = self.fetch(asset.path, asset.layer)
        if found is None:
            self.remarks.setdefault(f"layer '{asset.path}' is not to be had; what it holds is missing")
            return None
        key, data = found
        if key not in self.layers:
            self.layers[key] = Prim("def", "", "")  # so that one which names itself ends
            self.layers[key] = self._parsed(key, data)
        return key

    def _stack(self, key: str, above: tuple[str, ...]) -> Prim:
        """A layer with its sublayers beneath it."""
        layer = self.layers[key]
        for one in listed(layer.meta.get("subLayers")):
            weaker = self._layer(one) if isinstance(one, Asset) else None
            if weaker is not None and weaker not in (*above, key):
                layer = merged(layer, self._stack(weaker, (*above, key)))
        return layer

    def _at(self, key: str, path: str) -> Prim | None:
        """The prim of a layer at a path; its default prim when there is none."""
        layer = self._stack(key, ())
        if not path:
            path = f"/{word_in(layer.meta, 'defaultPrim') or next(iter(layer.children), '')}"
        found: Prim | None = layer
        for name in path.strip("/").split("/"):
            found = found.children.get(name) if found is not None else None
        return found

    def _composed(self, prim: Prim, path: str, key: str, depth: int, above: tuple[tuple[str, str], ...]) -> Prim:
        """A prim with all its arcs resolved, and its children likewise."""
        self.count += 1
        if depth > _DEEPEST + 160 or len(above) > _DEEPEST or self.count > _MOST_PRIMS:
            raise InputError("refers to itself recursively.", file=self.root_key, place=f"prim {path}")
        prim = self._with_arcs(prim, path, key, above)
        children = {
            name: self._composed(child, f"{path}/{name}", key, depth + 1, above)
            for name, child in prim.children.items()
        }
        same = all(children[name] is child for name, child in prim.children.items())
        return prim if same else replace(prim, children=children)

    def _with_arcs(self, prim: Prim, path: str, key: str, above: tuple[tuple[str, str], ...]) -> Prim:
        """What the prim says over what its arcs bring, strongest first."""
        meta = prim.meta
        if not prim.variants and not _ARCS & meta.keys():
            return prim
        result = replace(prim, meta={k: v for k, v in meta.items() if k not in _ARCS})
        for one in listed(meta.get("inherits")):
            result = self._over(result, None, one, path, key, above)
        result = self._with_variants(result, path, key, above)
        custom = meta.get("customData")
        piece = custom.get("piece") if isinstance(custom, dict) else None
        for arc in ("references", "payload"):
            for one in listed(meta.get(arc)):
                if isinstance(one, Asset) and one.path and one.path.removeprefix("./") == piece:
                    continue  # a piece of a level, which is read as a file of its own
                result = self._over(result, one if isinstance(one, Asset) else None, one, path, key, above)
        for one in listed(meta.get("specializes")):
            result = self._over(result, None, one, path, key, above)
        return result

    def _with_variants(self, prim: Prim, path: str, key: str, above: tuple[tuple[str, str], ...]) -> Prim:
        chosen = prim.meta.get("variants")
        chosen = chosen if isinstance(chosen, dict) else {}
        for name, variants in prim.variants.items():
            variant = variants.get(str(chosen.get(name, "")))
            if variant is None and variants and name not in chosen:
                variant = next(iter(variants.values()))
                self.remarks.setdefault(f"no variant of '{name}' is chosen for {path}; '{variant.name}' is taken")
            if variant is not None:
                prim = merged(replace(prim, variants={}), self._with_arcs(variant, path, key, above))
        return prim

    def _over(
        self, prim: Prim, asset: Asset | None, arc: object, path: str, key: str, above: tuple[tuple[str, str], ...]
    ) -> Prim:
        """The prim over what one arc brings."""
        if asset is not None and asset.path:
            where, source = self._layer(asset), asset.prim
        elif isinstance(arc, Target | Asset):
            where, source = key, arc.path if isinstance(arc, Target) else arc.prim
        else:
            return prim
        if where is None:
            return prim
        if (where, source) in above:
            raise InputError("refers to itself recursively.", file=self.root_key, place=f"prim {path}")
        weak = self._at(where, source)
        if weak is None:
            self.remarks.setdefault(f"prim '{source}' that {path} refers to is not there")
            return prim
        source = source or f"/{weak.name}"
        self.count += 1
        if self.count > _MOST_PRIMS:
            raise InputError("holds too many prims.", file=self.root_key)
        weak = self._with_children(weak, source, where, (*above, (where, source)))
        return merged(prim, _moved(weak, source.rstrip("/"), path))

    def _with_children(self, prim: Prim, path: str, key: str, above: tuple[tuple[str, str], ...]) -> Prim:
        return self._composed(prim, path, key, 0, above)


_ARCS = frozenset({"inherits", "references", "payload", "specializes"})


def merged(strong: Prim, weak: Prim) -> Prim:
    """What one prim says over what another says."""
    properties = dict(weak.properties)
    for name, one in strong.properties.items():
        properties[name] = _merged_property(one, properties[name]) if name in properties else one
    children = {name: merged(strong.children[name], child) if name in strong.children else child
                for name, child in weak.children.items()}  # fmt: skip
    children |= {name: child for name, child in strong.children.items() if name not in children}
    variants = dict(weak.variants)
    for name, own in strong.variants.items():
        variants[name] = {**variants.get(name, {}), **own}
    meta = {**weak.meta, **strong.meta}
    for key in ("apiSchemas",):
        if key in weak.meta and key in strong.meta:
            meta[key] = [*listed(strong.meta[key]), *listed(weak.meta[key])]
    if isinstance(weak.meta.get("variants"), dict) and isinstance(strong.meta.get("variants"), dict):
        meta["variants"] = {**weak.meta["variants"], **strong.meta["variants"]}
    specifier = weak.specifier if strong.specifier == "over" else strong.specifier
    return Prim(specifier, strong.type or weak.type, strong.name or weak.name, meta, properties, children, variants)


def _merged_property(strong: Property, weak: Property) -> Property:
    return Property(
        strong.type or weak.type,
        weak.value if strong.value is None else strong.value,
        strong.samples or weak.samples,
        strong.targets or weak.targets,
        {**weak.meta, **strong.meta},
    )


def _moved(prim: Prim, source: str, path: str) -> Prim:
    """A prim that was brought elsewhere, with the paths into what came along led there too."""
    if source == path:
        return prim

    def led(one: str) -> str:
        inside = one == source or one.startswith((f"{source}/", f"{source}."))
        return path + one[len(source) :] if inside else one

    properties = {
        name: replace(one, targets=tuple(map(led, one.targets))) if one.targets else one
        for name, one in prim.properties.items()
    }
    children = {name: _moved(child, source, path) for name, child in prim.children.items()}
    return replace(prim, properties=properties, children=children)
