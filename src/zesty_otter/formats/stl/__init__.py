"""STL: bare triangles."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "stl",
        "STL",
        (".stl",),
        Frame("right forward up"),
        frozenset(),
        reader="zesty_otter.formats.stl.reader",
        writer="zesty_otter.formats.stl.writer",
        colors="screen",
        axes_vary=True,
    ),
)
