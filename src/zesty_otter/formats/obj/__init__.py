"""OBJ geometry with MTL materials."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "obj",
        "OBJ with MTL",
        (".obj",),
        Frame("left up forward"),
        frozenset(
            {
                "names",
                "polygons",
                "smoothing groups",
                "normals",
                "UV sets",
                "colours",
                "materials",
                "metal/rough",
                "textures",
            }
        ),
        reader="zesty_otter.formats.obj.reader",
        writer="zesty_otter.formats.obj.writer",
        colors="screen",
        axes_vary=True,
        chooses=frozenset({"facets"}),
    ),
)
