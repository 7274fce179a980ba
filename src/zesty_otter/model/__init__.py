"""What a scene is. Data and its invariants; no files, no algorithms beyond bookkeeping."""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.model.checking import LARGEST, ReadOnlyDict, is_within
    from zesty_otter.model.frame import (
        UNITS,
        Frame,
        all_axes,
        format_length,
        format_unit,
        parse_axes,
        parse_length,
        parse_unit,
    )
    from zesty_otter.model.joining import joined_meshes
    from zesty_otter.model.material import (
        ALPHA_MODES,
        COLOR_ROLES,
        TEXTURE_ROLES,
        Material,
        Texture,
        TextureUse,
        roughness_of_shininess,
    )
    from zesty_otter.model.mesh import Layer, Mesh, all_finite, compact, compact_within, corners_of_faces
    from zesty_otter.model.naming import count_of, is_default_name, shortened
    from zesty_otter.model.roles import ROLES, Role
    from zesty_otter.model.scene import (
        Camera,
        Content,
        Light,
        Node,
        Note,
        Placed,
        Renamed,
        Scatter,
        Scene,
        content_bounds,
        copies_bounds,
        default_names,
        expanded,
        placed_bounds,
        seen_bounds,
        with_nodes_behind,
    )
    from zesty_otter.model.transforms import cofactors_of, determinant, reframed, transformed, turned_content

__getattr__ = loaded_when_asked(
    __name__,
    homes_of(
        checking="LARGEST ReadOnlyDict is_within",
        frame="UNITS Frame all_axes format_length format_unit parse_axes parse_length parse_unit",
        joining="joined_meshes",
        material="ALPHA_MODES COLOR_ROLES TEXTURE_ROLES Material Texture TextureUse roughness_of_shininess",
        mesh="Layer Mesh all_finite compact compact_within corners_of_faces",
        naming="count_of is_default_name shortened",
        roles="ROLES Role",
        scene="Camera Content Light Node Note Placed Renamed Scatter Scene content_bounds copies_bounds default_names"
        " expanded placed_bounds seen_bounds with_nodes_behind",
        transforms="cofactors_of determinant reframed transformed turned_content",
    ),
)

__all__ = [
    "ALPHA_MODES",
    "COLOR_ROLES",
    "LARGEST",
    "ROLES",
    "TEXTURE_ROLES",
    "UNITS",
    "Camera",
    "Content",
    "Frame",
    "Layer",
    "Light",
    "Material",
    "Mesh",
    "Node",
    "Note",
    "Placed",
    "ReadOnlyDict",
    "Renamed",
    "Role",
    "Scatter",
    "Scene",
    "Texture",
    "TextureUse",
    "all_axes",
    "all_finite",
    "cofactors_of",
    "compact",
    "compact_within",
    "content_bounds",
    "copies_bounds",
    "corners_of_faces",
    "count_of",
    "default_names",
    "determinant",
    "expanded",
    "format_length",
    "format_unit",
    "is_default_name",
    "is_within",
    "joined_meshes",
    "parse_axes",
    "parse_length",
    "parse_unit",
    "placed_bounds",
    "reframed",
    "roughness_of_shininess",
    "seen_bounds",
    "shortened",
    "transformed",
    "turned_content",
    "with_nodes_behind",
]
