"""Parts to OBJ text, in the unit and axes of a careless export."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zesty_otter.demo.shapes import Part
from zesty_otter.model import Frame

Object = tuple[str, list[Part]]


def obj_text(
    objects: Sequence[Object],
    frame: Frame,
    *,
    library: str,
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0),
    keyword: str = "o",
    negative: bool = False,
) -> str:
    """The text of an OBJ file.

    Parameters
    ----------
    objects : sequence of (name, parts)
        In metres, +X left, +Y up, +Z forward.
    frame : Frame
        What the file is written in.
    offset : three lengths in the file's unit
        How far from the origin somebody left it.
    keyword : {"o", "g"}
        Whether objects or groups are written.
    negative : bool
        Count indices back from the latest, as some programs do.
    """
    matrix = Frame("left up forward", "m").matrix_to(frame)
    mirrored = not frame.right_handed
    lines = [f"mtllib {library}"]
    point_base = uv_base = 1
    for name, parts in objects:
        lines.append(f"{keyword} {name}")
        for part in parts:
            points = part.points @ matrix.T + offset
            lines += ["v " + " ".join(_short(value) for value in point) for point in points]
            corners = [uv for face in part.uvs for uv in face]
            table, inverse = np.unique(np.round(corners, 6), axis=0, return_inverse=True)
            lines += [f"vt {_short(u)} {_short(v)}" for u, v in table]
            lines.append(f"usemtl {part.material}")
            at, group = 0, None
            for face, smoothing in zip(part.faces, part.smoothing, strict=True):
                if smoothing != group:
                    lines.append(f"s {smoothing or 'off'}")
                    group = smoothing
                size = len(face)
                pairs = [(point, int(inverse[at + k])) for k, point in enumerate(face)]
                at += size
                if mirrored:
                    pairs = [pairs[0], *pairs[:0:-1]]
                if negative:
                    words = [f"{p - len(points)}/{t - len(table)}" for p, t in pairs]
                else:
                    words = [f"{point_base + p}/{uv_base + t}" for p, t in pairs]
                lines.append("f " + " ".join(words))
            point_base += len(points)
            uv_base += len(table)
    return "\n".join(lines) + "\n"


def _short(value: float) -> str:
    return f"{value:.6f}".rstrip("0").rstrip(".") if abs(value) >= 5e-7 else "0"
