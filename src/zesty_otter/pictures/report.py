"""One page to send round: everything a job made, with pictures and numbers."""

from __future__ import annotations

import base64
import functools
import io
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from importlib import resources
from typing import Any

from PIL import Image

from zesty_otter.audit.findings import Finding
from zesty_otter.audit.footing import CollisionFacts
from zesty_otter.audit.surveying import Survey, survey
from zesty_otter.model import Scene, count_of, format_length
from zesty_otter.pictures.palette import INK, PAPER, PLUM, REED, RIVER
from zesty_otter.pictures.view import Look, picture
from zesty_otter.steps import LevelFacts, Roles

_LOOK = Look(size=(660, 420), figure=True, words=False)
_MOST_NAMES, _MOST_ROWS = 40, 60


@dataclass(frozen=True)
class ReportFile:
    """A file that was written, and what was wrong when it was read back."""

    path: str
    triangles: str
    problems: tuple[str, ...] = ()


@dataclass(frozen=True)
class ReportAsset:
    """What there is to say of one asset. ``part`` is what `part` made of it, and ``key`` what that depends on."""

    name: str
    state: str
    error: str = ""
    files: tuple[ReportFile, ...] = ()
    findings: tuple[Finding, ...] = ()
    notes: tuple[str, ...] = ()
    key: str = ""
    part: str = ""


def page(title: str, summary: str, assets: Sequence[ReportAsset]) -> str:
    """The page as HTML with everything in it: no links outward, the same bytes every time.

    Parameters
    ----------
    title, summary : str
    assets : sequence of ReportAsset
    """
    rows = [
        {
            "anchor": f"{number}-" + re.sub(r"[^a-z0-9]+", "-", one.name.lower()).strip("-"),
            "bad": bool(one.error) or any(file.problems for file in one.files),
            "part": f"<!-- part {one.key} -->\n{one.part}<!-- end of part -->" if one.part else "",
            **{name: getattr(one, name) for name in ("name", "state", "error", "files", "findings", "notes")},
        }
        for number, one in enumerate(assets)
    ]
    return _template("report.html.j2").render(
        title=title or "What the job made", summary=summary, assets=rows, paper=PAPER, ink=INK, reed=REED, river=RIVER,
        plum=PLUM,
    )  # fmt: skip


def parts_in(page: str) -> dict[str, str]:
    """The parts of a page that was made before, by their keys: what has not changed is not drawn again."""
    return {found[1]: found[2] for found in _PART.finditer(page)}


_PART = re.compile(r"<!-- part ([0-9a-f]+) -->\n(.*?)<!-- end of part -->", re.DOTALL)


def part(before: Scene | None, after: Scene, names: Sequence[tuple[str, str]]) -> str:
    """The pictures and tables of one asset, as HTML.

    Parameters
    ----------
    before : Scene, optional
        What its source holds.
    after : Scene
        What was written.
    names : sequence of (str, str)
        Old and new names of nodes.
    """
    told = survey(Roles().apply(after))
    return _template("report_part.html.j2").render(
        part={
            "pictures": _pictures(after, told),
            "facts": _facts(None if before is None else survey(before), told),
            "levels": [_level_row(level) for level in told.levels[:_MOST_ROWS]],
            "looks": any(level.appearance is not None for level in told.levels),
            "chart": _chart(told.levels),
            "collision": [_collision_row(facts) for facts in told.collision],
            "names": names[:_MOST_NAMES],
        }
    )


@functools.cache
def _template(name: str) -> Any:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    return environment.from_string((resources.files(__package__) / name).read_text(encoding="utf-8"))


def _pictures(scene: Scene, facts: Survey) -> list[dict[str, Any]]:
    shots = [("from the front left", picture(scene, _LOOK))]
    if facts.collision:
        shots.append(("footing: where feet would float (lamplight) or sink (river)",
                      picture(scene, Look(size=_LOOK.size, style="footing", words=False))))  # fmt: skip
    return [
        {"data": _data(image), "words": words, "width": image.width, "height": image.height} for words, image in shots
    ]


def _data(image: Image.Image) -> str:
    out = io.BytesIO()
    image.quantize(256, Image.Quantize.FASTOCTREE, dither=Image.Dither.NONE).save(out, "PNG", compress_level=6)
    return "data:image/png;base64," + base64.b64encode(out.getvalue()).decode()


def _facts(before: Survey | None, after: Survey) -> list[tuple[str, str, str]]:
    def of(facts: Survey | None) -> list[str]:
        if facts is None:
            return ["not read"] * 6
        size = "nothing placed"
        if facts.size is not None:
            unit = facts.unit
            size = " × ".join(format_length(side * unit) if unit else f"{side:.4g}" for side in facts.size)
        leftovers = sum(bool(node.leftover) for node in facts.nodes)
        kinds = f"{facts.faces.triangles:,} triangles, {facts.faces.quads:,} quads, {facts.faces.ngons:,} n-gons"
        return [size, facts.counted, kinds, count_of(len(facts.nodes), "node"),
                ", ".join(one.name for one in facts.materials[:8]) or "none",
                count_of(leftovers, "node") if leftovers else "none"]  # fmt: skip

    labels = ("size", "drawn triangles", "faces", "nodes", "materials", "transforms left")
    return list(zip(labels, of(before), of(after), strict=True))


def _level_row(level: LevelFacts) -> tuple[str, ...]:
    looks = "" if level.appearance is None else f"{100 * level.appearance:.2g} % of its pixels"
    return level.node, f"{level.triangles:,}", _said(level.deviation), _said(level.distance), looks


def _collision_row(one: CollisionFacts) -> tuple[str, ...]:
    return one.asset, one.shape, str(one.parts), _said(one.floats), _said(one.sinks), _said(one.blocked)


def _said(length: float | None) -> str:
    if length is None:
        return ""
    return "0" if length < 1e-6 else format_length(float(f"{length:.3g}"))


def _chart(levels: Sequence[LevelFacts]) -> str:
    """Deviation against triangles, as a drawing within the page; both scales are logarithmic."""
    known = [one for one in levels if one.deviation and one.triangles]
    if len(known) < 2:
        return ""
    wide, high, edge = 560, 190, 44
    across = [math.log10(one.triangles) for one in known]
    up = [math.log10(float(one.deviation or 1)) for one in known]

    def place(value: float, low: float, top: float, start: float, end: float) -> float:
        return start + (value - low) / ((top - low) or 1.0) * (end - start)

    dots, lines = [], []
    by_asset: dict[str, list[tuple[float, float]]] = {}
    for one, x, y in zip(known, across, up, strict=True):
        at = (
            place(x, min(across), max(across), edge + 30, wide - 20),
            place(y, min(up), max(up), high - edge, 16),
        )
        by_asset.setdefault(one.asset, []).append(at)
        dots.append(f'<circle cx="{at[0]:.1f}" cy="{at[1]:.1f}" r="4" fill="{RIVER}"/>')
    for places in by_asset.values():
        path = " ".join(f"{x:.1f},{y:.1f}" for x, y in sorted(places))
        lines.append(f'<polyline points="{path}" fill="none" stroke="{REED}" stroke-width="2"/>')
    least, most = min(known, key=lambda one: one.triangles), max(known, key=lambda one: one.triangles)
    low, top = min(one.deviation or 0 for one in known), max(one.deviation or 0 for one in known)
    words = (
        f'<text x="{edge + 30}" y="{high - 8}" text-anchor="middle">{least.triangles:,}</text>'
        f'<text x="{wide - 20}" y="{high - 8}" text-anchor="end">{most.triangles:,} triangles</text>'
        f'<text x="{edge + 14}" y="{high - edge + 4}" text-anchor="end">{_said(low)}</text>'
        f'<text x="{edge + 14}" y="20" text-anchor="end">{_said(top)}</text>'
    )
    axes = f'<path d="M{edge + 20} 12 V{high - edge + 10} H{wide - 12}" fill="none" stroke="#b9b4a4"/>'
    return (
        f'<svg viewBox="0 0 {wide} {high}" width="{wide}" style="max-width:100%" role="img"'
        f' aria-label="deviation against triangles">{axes}{"".join(lines)}{"".join(dots)}{words}</svg>'
    )
