"""STEP: exact curves and surfaces in the exchange structure of ISO 10303-21."""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame

FORMATS = (
    Format(
        "step",
        "STEP",
        (".step", ".stp", ".p21"),
        Frame("right forward up"),
        frozenset({"names", "tree", "polygons", "normals", "materials", "unit", "axes"}),
        reader="zesty_otter.formats.step.reader",
        chooses=frozenset({"facets"}),
        magic=(b"ISO-10303-21",),
        colors="screen",
    ),
)
