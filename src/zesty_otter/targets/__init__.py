"""What a receiving engine expects. Targets are TOML files; those in `data` are built in."""

from __future__ import annotations

import functools
from importlib import resources
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, field_validator

from zesty_otter._plugins import plugins
from zesty_otter._settings import Settings, as_value, read_settings
from zesty_otter.errors import UsageError, closest
from zesty_otter.model import ROLES, Frame, format_unit, parse_axes, parse_length, parse_unit


def _spelled(unit: float | str) -> str:
    return format_unit(parse_unit(unit)).removesuffix(" m")


Axes = Annotated[str, AfterValidator(as_value(lambda axes: " ".join(parse_axes(axes))))]
"""Three direction words."""

Unit = Annotated[float | str, BeforeValidator(as_value(_spelled))]
"""A unit's name or its length in metres."""


Length = Annotated[float, BeforeValidator(as_value(parse_length))]
"""A length in metres; also written with a unit."""


class Space(Settings):
    """The space the target works in."""

    axes: Axes = Field("left up forward", description="What +X, +Y and +Z mean for the asset, in three words.")
    unit: Unit = Field("m", description="Length of one unit: mm, cm, m, in, ft or a number of metres.")


class Limits(Settings):
    """The most of everything; what is absent has no limit."""

    triangles: int | None = Field(None, ge=1, description="Triangles of an asset, without its levels.")
    triangles_per_level: tuple[int, ...] = Field((), description="Triangles of each level, the finest first.")
    vertices: int | None = Field(None, ge=3, description="Vertices of one mesh, counted with seams.")
    slots: int | None = Field(None, ge=1, description="Material slots of one mesh.")
    appearance: float | None = Field(
        None, gt=0, lt=1, description="Share of a level's pixels that may look different where it appears: 0.02."
    )
    texture_size: int | None = Field(None, ge=1, description="Pixels along a side of a texture.")
    hull_vertices: int | None = Field(None, ge=4, description="Vertices of one convex collision part.")
    footing: Length = Field(0.02, gt=0, description="Maximum that feet may float above or sink into the visible mesh.")
    index_bits: Literal[16, 32] | None = Field(
        None, description="Width of indices; with 16, larger meshes are divided."
    )


class Required(Settings):
    """What every asset needs."""

    collision: bool = Field(False, description="Every visible asset needs a collision mesh.")
    levels: int = Field(0, ge=0, description="Levels of detail that every visible asset needs.")
    uv_sets: int = Field(0, ge=0, description="UV sets that every visible mesh needs; 2 for baked light.")


class LevelRules(Settings):
    """Rules for levels of detail."""

    files: Literal["together", "apart"] = Field(
        "together", description="All levels in the file of their asset, or each in a file of its own."
    )


class TextureRules(Settings):
    """Rules for textures."""

    normal_green: Literal["up", "down"] = Field("up", description="Direction of green in normal maps.")
    power_of_two: bool = Field(False, description="Sides must be powers of two.")


class Target(Settings):
    """What a target expects. A file that ``extends`` another says only what is different."""

    name: str = Field("", description="Name; that of the file when absent.")
    title: str = Field("", description="One line on what it is.")
    extends: str | None = Field(None, description="A built-in target or a file to start from.")
    formats: tuple[str, ...] = Field(("glb",), description="Formats it reads, preferred one first.")
    frame: Space = Field(default_factory=Space, description="The space it works in.")
    names: dict[str, str] = Field(
        default_factory=dict, description="Name templates by role, from {name}, {level} and {n}."
    )
    longest_name: int = Field(63, ge=4, description="Maximum characters of a name.")
    allowed_characters: str = Field(
        "A-Za-z0-9_-", description=r"Allowed characters, as in a regular expression: \w for every script."
    )
    limits: Limits = Field(default_factory=Limits, description="Limits.")
    drop: tuple[str, ...] = Field((), description="Nodes it has no use for, in the words of select.")
    levels: LevelRules = Field(default_factory=LevelRules, description="Rules for levels of detail.")
    require: Required = Field(default_factory=Required, description="What every asset needs.")
    textures: TextureRules = Field(default_factory=TextureRules, description="Rules for textures.")
    severities: dict[str, Literal["error", "warning", "off"]] = Field(
        default_factory=dict, description="Severity of rules, where it differs from the usual one."
    )
    triangulate: bool = Field(True, description="Whether it needs triangles.")
    polygons: Literal["any", "convex-quads"] = Field(
        "any", description="Faces it takes if not only triangles: any, or convex-quads (triangles and convex quads)."
    )
    tangents: Literal["none", "normal-mapped", "all"] = Field("none", description="Which meshes need tangents.")

    @field_validator("names")
    @classmethod
    def _known_roles(cls, names: dict[str, str]) -> dict[str, str]:
        for role, template in names.items():
            if role not in ROLES:
                raise ValueError(f"'{role}' is not a role; there are {', '.join(ROLES)}.{closest(role, list(ROLES))}")
            if "{name}" not in template:
                raise ValueError(f"the template '{template}' for {role} must hold {{name}}")
        return names

    @property
    def space(self) -> Frame:
        """The space it works in."""
        return Frame(self.frame.axes, self.frame.unit)


def names() -> list[str]:
    """The built-in targets, and those of other packages."""
    return [*_built_in(), *sorted(_of_others())]


@functools.cache
def _of_others() -> dict[str, Target]:
    """What other packages bring by entry points in the group ``zesty_otter.targets``: a target, or a path of one."""
    found = [one if isinstance(one, Target) else load(one) for one in plugins("zesty_otter.targets")]
    return {one.name: one for one in found}


def _built_in() -> list[str]:
    return sorted(file.name.removesuffix(".toml") for file in _DATA.iterdir() if file.name.endswith(".toml"))


def load(name: str | Path, beside: Path | None = None) -> Target:
    """A built-in target by its name, or one from a TOML file.

    Parameters
    ----------
    name : str or path
        A name, or a path that ends in .toml.
    beside : Path, optional
        The folder that relative paths start from.
    """
    return _load(str(name), beside or Path(), ())


_DATA = resources.files(__name__) / "data"


def _load(name: str, beside: Path, above: tuple[Path, ...]) -> Target:
    built_in = not name.endswith(".toml")
    if built_in:
        if name not in _built_in() and name in _of_others():
            return _of_others()[name]
        if name not in names():
            raise UsageError(
                f"'{name}' is not a target.{closest(name, names())}",
                file=above[-1] if above else None,
                remedy=f"There are {', '.join(names())}, and files that end in .toml.",
            )
        path = Path(name)
        with resources.as_file(_DATA / f"{name}.toml") as file:
            own = read_settings(file, Target).model_copy(update={"name": name})
    else:
        path = beside / name
    if path.resolve() in above:
        raise UsageError("extends itself.", file=path, remedy="Take 'extends' out of one of the files.")
    if not built_in:
        own = read_settings(path, Target)
    named = own if own.name else own.model_copy(update={"name": path.stem})
    if own.extends is None:
        return named
    base = _load(own.extends, path.parent, (*above, path.resolve()))
    return merged(base, named.model_copy(update={"extends": own.extends}))


def merged(base: Target, own: Target) -> Target:
    """A target with what another file says of it in its place, table by table."""
    changes = {}
    for field in own.model_fields_set | {"name"}:
        value = getattr(own, field)
        before = getattr(base, field)
        if isinstance(value, Settings):
            value = before.model_copy(update={key: getattr(value, key) for key in value.model_fields_set})
        elif isinstance(value, dict):
            value = {**before, **value}
        changes[field] = value
    return base.model_copy(update=changes)
