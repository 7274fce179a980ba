"""Overall size."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from zesty_otter._settings import as_value
from zesty_otter.errors import UsageError
from zesty_otter.model import Camera, Frame, Light, Mesh, Node, Scatter, Scene, format_length, seen_bounds
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.roles import Roles


def parse_factor(text: float | str) -> float:
    """A factor, from a number or a percentage such as ``"50%"``."""
    if not isinstance(text, str):
        return float(text)
    found = re.fullmatch(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(%?)\s*", text)
    if not found:
        raise UsageError(f"'{text}' is not a factor.", remedy="Write a number or a percentage: 0.5 or 50%.")
    return float(found[1]) / (100.0 if found[2] else 1.0)


_FACTOR = WithJsonSchema({"type": ["number", "string"], "examples": [0.5, "50%"]})


class Scale(Step):
    """Make everything larger or smaller about the scene's origin, in the data and not on the nodes.

    Looks at the bounds of what is seen when a height is given. Changes positions, the translations of nodes, and
    the range of lights and cameras. Refuses factors and heights that are not above zero, and a height for something
    flat.
    """

    slug: ClassVar[str] = "scale"
    whole_scene: ClassVar[bool] = True
    example: ClassVar[dict[str, Any]] = {"height": "1.8m"}

    factor: Annotated[float, BeforeValidator(as_value(parse_factor)), _FACTOR] | None = Field(
        None,
        gt=0,
        allow_inf_nan=False,
        description="Multiply every length by this: a number or a percentage.",
    )
    height: Length | None = Field(
        None,
        gt=0,
        allow_inf_nan=False,
        description="Make what is seen this tall: 1.8m; collision and the like do not count.",
    )

    @model_validator(mode="after")
    def _one_of_two(self) -> Scale:
        if (self.factor is None) == (self.height is None):
            raise ValueError("give either factor or height")
        return self

    def change(self, scene: Scene) -> Scene:
        if self.height is not None and scene.frame.unit is None:
            # Whatever its unit was, it is this tall afterwards.
            scene = replace(scene, frame=Frame(scene.frame.axes, "m"))
        factor = self.factor if self.factor is not None else self._factor_for_height(scene)
        if factor == 1.0:
            return scene

        def shrink(mesh: Mesh) -> Mesh:
            return mesh.replace(points=mesh.points * factor)

        places = np.ones((4, 4))
        places[:3, 3] = factor

        def pull(node: Node) -> Node:
            content = node.content
            if isinstance(content, Scatter):
                content = replace(content, transforms=content.transforms * places)
            elif isinstance(content, Light):
                content = replace(content, reach=_times(content.reach, factor))
            elif isinstance(content, Camera):
                height = content.height if content.perspective else content.height * factor
                near, far = content.near * factor, _times(content.far, factor)
                content = replace(content, height=height, near=near, far=far)
            elif not node.transform[:3, 3].any():
                return node
            return replace(node, transform=node.transform * places, content=content)

        scaled = scene.map_meshes(shrink).map_nodes(pull)
        return scaled.with_notes(self.note(f"everything scaled by {factor:.6g}"))

    def _factor_for_height(self, scene: Scene) -> float:
        assert self.height is not None
        unit = scene.frame.unit or 1.0
        axis, _ = scene.frame.up
        tall = float(np.diff(seen_bounds(Roles().apply(scene))[:, axis])[0]) * unit
        if not tall > 0:
            raise UsageError(
                f"the scene has no height to scale to {format_length(self.height)}.",
                file=scene.source,
                remedy="Use a factor.",
            )
        return self.height / tall


def _times(length: float | None, factor: float) -> float | None:
    return None if length is None else length * factor
