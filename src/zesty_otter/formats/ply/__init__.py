"""PLY: polygons with properties."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "ply",
        "PLY",
        (".ply",),
        Frame("left up forward"),
        frozenset({"polygons", "normals", "UV sets", "colours"}),
        reader="zesty_otter.formats.ply.reader",
        writer="zesty_otter.formats.ply.writer",
        colors="screen",
        plain_faces=True,
        magic=(b"ply",),
        axes_vary=True,
    ),
)
