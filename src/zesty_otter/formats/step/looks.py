"""Colours and layers of STEP (ISO 10303-46, visual presentation)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.step.exchange import Exchange, Ref, Typed
from zesty_otter.model import Material

_NAMED = {
    "red": (1, 0, 0), "green": (0, 1, 0), "blue": (0, 0, 1), "yellow": (1, 1, 0), "magenta": (1, 0, 1),
    "cyan": (0, 1, 1), "black": (0, 0, 0), "white": (1, 1, 1),
}  # fmt: skip


class Looks:
    """Materials and groups of instances."""

    def __init__(self, exchange: Exchange) -> None:
        self.exchange = exchange
        self.materials: dict[tuple[float, ...], Material] = {}
        self.lost: set[str] = set()

    @cached_property
    def _styled(self) -> dict[int, Material]:
        """What instances are drawn in; styles that override others come last."""
        found: dict[int, Material] = {}
        for kind in ("STYLED_ITEM", "OVER_RIDING_STYLED_ITEM"):
            for number in self.exchange.of_kind(kind):
                instance = self.exchange.at(number)
                if instance is None:
                    continue
                # Of several types the arguments stand apart.
                args = [one for part in instance.parts.values() for one in part]
                target = next((one.number for one in args if isinstance(one, Ref)), None)
                styles = next((one for one in args if isinstance(one, list)), [])
                material = self._material(styles)
                if target is not None and material is not None:
                    found[target] = material
        return found

    def _material(self, styles: Sequence[Any]) -> Material | None:
        color: tuple[float, ...] | None = None
        name, alpha = "", 1.0
        for instance, args in self._below(styles):
            if instance == "COLOUR_RGB" and len(args) >= 4 and color is None:
                try:
                    color = tuple(min(max(float(one), 0.0), 1.0) for one in args[1:4])
                except (TypeError, ValueError):
                    continue
                name = args[0] if isinstance(args[0], str) else ""
            elif instance.endswith("PRE_DEFINED_COLOUR") and args and color is None:
                color = tuple(float(one) for one in _NAMED.get(str(args[0]).lower(), (0.5, 0.5, 0.5)))
                name = str(args[0])
            elif instance == "SURFACE_STYLE_TRANSPARENT" and args and isinstance(args[0], int | float):
                alpha = 1.0 - min(max(float(args[0]), 0.0), 1.0)
        if color is None:
            return None
        key = (*color, alpha)
        if key not in self.materials:
            shown = name.strip() or "color_" + "".join(f"{round(255 * one):02x}" for one in color)
            taken = {one.name for one in self.materials.values()}
            if shown in taken:
                shown = f"{shown}_{len(taken) + 1}"
            self.materials[key] = Material(
                shown, (color[0], color[1], color[2], alpha), alpha_mode="blend" if alpha < 1 else "opaque"
            )
        return self.materials[key]

    def _below(self, styles: Sequence[Any]) -> Iterator[tuple[str, list[Any]]]:
        """What styles are made of, surfaces before curves."""
        waiting = [one.number for one in styles if isinstance(one, Ref)][::-1]
        seen: set[int] = set()
        while waiting and len(seen) < 1000:
            number = waiting.pop()
            instance = self.exchange.at(number)
            if number in seen or instance is None or instance.kind in ("CURVE_STYLE", "POINT_STYLE"):
                continue
            seen.add(number)
            for kind, args in instance.parts.items():
                yield kind, args
                refs = list(_refs(args))
                waiting += refs[::-1]

    @cached_property
    def _layers(self) -> dict[int, tuple[str, ...]]:
        found: dict[int, tuple[str, ...]] = {}
        for number in self.exchange.of_kind("PRESENTATION_LAYER_ASSIGNMENT"):
            instance = self.exchange.at(number)
            if instance is None or len(instance.args) < 3 or not isinstance(instance.args[0], str):
                continue
            name = instance.args[0].strip()
            for item in _refs(instance.args[2:3]):
                if name and name not in found.get(item, ()):
                    found[item] = (*found.get(item, ()), name)
        return found

    def layers_of(self, item: int) -> tuple[str, ...]:
        return self._layers.get(item, ())

    def material_of(self, number: int) -> Material | None:
        return self._styled.get(number)

    def slots(
        self, faces: Sequence[int], around: Sequence[int]
    ) -> tuple[tuple[Material | None, ...], NDArray[np.int32]]:
        """The materials of faces, each its own or that of the nearest thing around it, and which is whose."""
        whole = next((self._styled[one] for one in around if one in self._styled), None)
        slots: list[Material | None] = []
        number = np.zeros(max(len(faces), 1), np.int32)
        for k, face in enumerate(faces):
            material = self._styled.get(face, whole)
            place = next((n for n, one in enumerate(slots) if one is material), None)
            if place is None:
                place = len(slots)
                slots.append(material)
            number[k] = place
        return tuple(slots) or (None,), number


def _refs(value: Any) -> Iterator[int]:
    if isinstance(value, Ref):
        yield value.number
    elif isinstance(value, Typed):
        yield from _refs(value.value)
    elif isinstance(value, np.ndarray):
        if value.dtype == np.int64:
            yield from (int(one) for one in value)
    elif isinstance(value, list):
        for one in value:
            yield from _refs(one)
