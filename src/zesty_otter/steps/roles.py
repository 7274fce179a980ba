"""Giving nodes their roles."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar

from pydantic import Field, field_validator

from zesty_otter.errors import closest
from zesty_otter.model import ROLES, Scene
from zesty_otter.steps.assets import TOKENS, usual_templates, with_roles
from zesty_otter.steps.base import Step
from zesty_otter.steps.words import Words, chosen


class Roles(Step):
    """Give nodes their roles: by name template, by group or by hand.

    Looks at the names of nodes that are visible so far, and at the nodes you assign to a role. Changes the role,
    and for levels the properties ``asset`` and ``level``. Refuses roles and tokens it does not know.
    """

    slug: ClassVar[str] = "roles"
    example: ClassVar[dict[str, Any]] = {"assign": {"collision": ["group:solid*"]}}

    templates: dict[str, tuple[str, ...]] = Field(
        default_factory=usual_templates,
        description="Name templates for each role, with {name}, {level} and {n} (a number).",
    )
    visible: str = Field(
        "{name}", description="How visible meshes are named, to which levels, collision and so on belong: from {name}."
    )
    assign: dict[str, Words] = Field(
        default_factory=dict,
        description="For each role, the nodes that get it whatever their names are, in the words of select.",
    )

    @classmethod
    def named_by(cls, names: Mapping[str, str]) -> Roles:
        """The step that knows roles by the names a target has for them, and by the usual ones.

        Parameters
        ----------
        names : mapping of str to str
            The template of each role, such as ``"{name}_lod{n}"``.

        Returns
        -------
        Roles

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> scene = zo.Scene.from_nodes(zo.Node("sail", content=sail), zo.Node("sail_far1", content=sail))
        >>> [placed.node.role for placed in Roles.named_by({"level": "{name}_far{n}"}).apply(scene).walk()]
        ['visible', 'level']
        """
        own = {role: (template,) for role, template in names.items() if role != "visible" and template != "{name}"}
        known = {role: tuple(dict.fromkeys((*own.get(role, ()), *usual))) for role, usual in usual_templates().items()}
        return cls(templates={**own, **known}, visible=names.get("visible", "{name}"))

    @field_validator("templates", "assign")
    @classmethod
    def _known_roles(cls, value: dict[str, Any]) -> dict[str, Any]:
        for role in value:
            if role not in ROLES:
                raise ValueError(f"'{role}' is not a role; there are {', '.join(ROLES)}.{closest(role, list(ROLES))}")
        return value

    @field_validator("templates")
    @classmethod
    def _known_tokens(cls, value: dict[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
        for templates in value.values():
            for template in templates:
                tokens = re.findall(r"\{([^{}]*)\}", template)
                if "name" not in tokens or any(token not in TOKENS for token in tokens):
                    raise ValueError(f"'{template}' must hold {{name}}, and may hold {{level}} and {{n}}")
        return value

    def change(self, scene: Scene) -> Scene:
        assigned = {
            one.number: role for one in scene.walk() for role, words in self.assign.items() if chosen(words, one)
        }
        return with_roles(scene, self.templates, visible=self.visible, assigned=assigned)
