"""3MF, core specification."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "3mf",
        "3MF",
        (".3mf",),
        Frame("right forward up"),
        frozenset({"names", "tree", "materials", "unit", "axes"}),
        reader="zesty_otter.formats.threemf.reader",
        writer="zesty_otter.formats.threemf.writer",
        colors="screen",
        magic=(b"PK\3\4",),
    ),
)
