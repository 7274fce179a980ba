"""Arrays in, arrays out, by subject. Knows no scene, no file and no setting object.

What is public stands here by name; the folders below are `surface`, `simplify`, `solids`, `queries`, `uv` and `raster`.
"""

from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked

if TYPE_CHECKING:
    from zesty_otter.geometry import queries, raster, simplify, solids, surface, uv
    from zesty_otter.geometry.queries.distance import Surface
    from zesty_otter.geometry.simplify.deviation import deviation
    from zesty_otter.geometry.solids.decompose import decompose
    from zesty_otter.geometry.solids.fits import smallest_box, smallest_capsule, smallest_cylinder, smallest_sphere
    from zesty_otter.geometry.solids.hulls import Hull, convex_hull
    from zesty_otter.geometry.solids.inset import inset
    from zesty_otter.geometry.solids.solid import Solid
    from zesty_otter.geometry.surface.corners import join_points, split_vertices
    from zesty_otter.geometry.surface.flat import merge_flat
    from zesty_otter.geometry.surface.normals import (
        face_areas_and_normals,
        normals_all_smooth,
        normals_by_group,
        normals_over_soft_edges,
    )
    from zesty_otter.geometry.surface.tangents import tangents
    from zesty_otter.geometry.surface.topology import Topology, topology, weld_representatives
    from zesty_otter.geometry.surface.triangulation import triangulate
    from zesty_otter.geometry.uv.sets import uv_facts

_HOMES = {
    "queries.distance": "Surface",
    "simplify.deviation": "deviation",
    "solids.decompose": "decompose",
    "solids.fits": "smallest_box smallest_capsule smallest_cylinder smallest_sphere",
    "solids.hulls": "Hull convex_hull",
    "solids.inset": "inset",
    "solids.solid": "Solid",
    "surface.corners": "join_points split_vertices",
    "surface.flat": "merge_flat",
    "surface.normals": "face_areas_and_normals normals_all_smooth normals_by_group normals_over_soft_edges",
    "surface.tangents": "tangents",
    "surface.topology": "Topology topology weld_representatives",
    "surface.triangulation": "triangulate",
    "uv.sets": "uv_facts",
}

_SUBJECTS = dict.fromkeys(("queries", "raster", "simplify", "solids", "surface", "uv"), "")

__getattr__ = loaded_when_asked(__name__, {**homes_of(**_HOMES), **_SUBJECTS})

__all__ = [
    "Hull",
    "Solid",
    "Surface",
    "Topology",
    "convex_hull",
    "decompose",
    "deviation",
    "face_areas_and_normals",
    "inset",
    "join_points",
    "merge_flat",
    "normals_all_smooth",
    "normals_by_group",
    "normals_over_soft_edges",
    "queries",
    "raster",
    "simplify",
    "smallest_box",
    "smallest_capsule",
    "smallest_cylinder",
    "smallest_sphere",
    "solids",
    "split_vertices",
    "surface",
    "tangents",
    "topology",
    "triangulate",
    "uv",
    "uv_facts",
    "weld_representatives",
]
