"""Tables of places: names, positions, rotations and scales, without meshes; a small open format of our own.

Described in docs/scatters.md. CSV for spreadsheets and scripts, JSON with unit and axes for programs.
"""

from zesty_otter.formats.base import Format
from zesty_otter.model import Frame, all_axes

FORMATS = (
    Format(
        "places-csv",
        "Table of places, CSV",
        (".csv",),
        Frame("left up forward"),
        frozenset({"names", "scatters"}),
        reader="zesty_otter.formats.places.reader",
        writer="zesty_otter.formats.places.writer",
        axes_vary=True,
        only_places=True,
    ),
    Format(
        "places-json",
        "Table of places, JSON",
        (".json",),
        Frame("left up forward"),
        frozenset({"names", "scatters", "unit", "axes"}),
        reader="zesty_otter.formats.places.reader",
        writer="zesty_otter.formats.places.writer",
        spaces=tuple(" ".join(axes) for axes in all_axes()),
        only_places=True,
    ),
)
