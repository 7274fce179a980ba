"""Pages to send round: everything a job made, with pictures, numbers, and the assets in the round."""

from __future__ import annotations

import base64
import functools
import hashlib
import io
import json
import math
import re
import zlib
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from html import escape
from importlib import resources
from string import Template
from typing import Any

import numpy as np
from PIL import Image

from zesty_otter.audit.findings import Finding
from zesty_otter.audit.footing import QUICK, CollisionFacts, collision_facts
from zesty_otter.audit.surveying import leftover, shown_faces, triangles_in_words
from zesty_otter.model import Scene, count_of, format_length, seen_bounds
from zesty_otter.page import ON_A_PAGE
from zesty_otter.page.packing import Budget, Packed, as_written, finding_facts, footing_places, pack
from zesty_otter.pictures.palette import REED, RIVER
from zesty_otter.pictures.small import small_picture
from zesty_otter.pictures.view import Look, picture
from zesty_otter.steps import LevelFacts, Roles, level_facts

Image.preinit()  # what saving a picture loads: now, once for all workers

_LOOK = Look(size=(528, 336), figure=True, words=False, places=QUICK)
_SMALL = Look(size=(160, 96), figure=True, words=False, axes=False, smooth=False, places=QUICK)
_MOST_NAMES, _MOST_ROWS = 40, 60
_BUDGET = Budget(triangles=20_000, pixels=512)
_NOTEBOOK = Budget(triangles=100_000, pixels=512)
_FRAME = "width:100%;height:480px;border:1px solid #b9b4a4;border-radius:6px"
_MOST_MODEL = 1_500_000  # bytes of one asset in the round
_SMALL_MODEL = 1 << 16
_MOST_MODELS = 24_000_000  # of all of a page
_SEARCH = '<p><input type="search" id="search" placeholder="name" aria-label="search by name" hidden></p>'
_ASSETS = (
    '<div class="wide"><table><tr><th>asset</th><th>state</th><th>files</th><th class="n">triangles</th>'
    "<th>findings</th></tr>"
)
_ARRIVAL = '<div class="wide"><table><tr><th>file</th><th class="n">triangles</th><th>read back</th></tr>'
_AS_MEANT = '<span class="good">as meant</span>'
_FINDINGS = '<div class="wide"><table><tr><th></th><th>where</th><th>what</th><th>what mends it</th></tr>'
_JSON = json.JSONEncoder(ensure_ascii=False, allow_nan=False, separators=(",", ":"))


@dataclass(frozen=True)
class ReportFile:
    """A file that was written, and what was wrong when it was read back."""

    path: str
    triangles: str
    problems: tuple[str, ...] = ()


@dataclass(frozen=True)
class Part:
    """What a page shows of an asset beside what its run said: HTML, and JSON of it in the round, "" for none."""

    html: str = ""
    model: str = ""


@dataclass(frozen=True)
class ReportAsset:
    """What there is to say of one asset. ``key`` is what its part depends on."""

    name: str
    state: str
    error: str = ""
    files: tuple[ReportFile, ...] = ()
    findings: tuple[Finding, ...] = ()
    notes: tuple[str, ...] = ()
    key: str = ""

    @property
    def is_bad(self) -> bool:
        return bool(self.error) or any(file.problems for file in self.files)


def page(
    title: str, summary: str, assets: Sequence[ReportAsset], parts: Iterable[Part], *, index: str = "", first: int = 0
) -> Iterator[str]:
    """A page as HTML with everything in it: no links outward but to its index, the same text every time.

    Parameters
    ----------
    title, summary : str
    assets : sequence of ReportAsset
    parts : iterable of Part
        One for each asset.
    index : str
        The page that lists this one, where there is one.
    first : int
        The number of its first asset.

    Yields
    ------
    str
        The page piece by piece, as it may be long.
    """

    def articles() -> Iterator[str]:
        yield f"<nav>{''.join(_link(asset, number) for number, asset in enumerate(assets, first))}</nav>\n"
        left = _MOST_MODELS
        for number, (asset, part) in enumerate(zip(assets, parts, strict=True), first):
            fits = len(part.model) <= left
            left -= len(part.model) if fits else 0
            yield from _article(asset, number, part, in_the_round=fits)

    above = f'<p><a href="{escape(index)}">All assets</a></p>' if index else ""
    return _rendered(title, summary, articles(), above)


def index_page(title: str, summary: str, assets: Sequence[ReportAsset], pages: Sequence[str]) -> Iterator[str]:
    """The page that lists all others, piece by piece; ``pages`` are their names, with `ON_A_PAGE` assets each."""
    links = "".join(f'<a href="{escape(page)}">Page {number}</a>' for number, page in enumerate(pages, 1))
    rows = "\n".join(_listed(one, n, pages[n // ON_A_PAGE]) for n, one in enumerate(assets))
    return _rendered(title, summary, [f"<nav>{links}</nav>\n{_SEARCH}\n{_ASSETS}\n{rows}</table></div>"])


def _rendered(title: str, summary: str, content: Iterable[str], above: str = "") -> Iterator[str]:
    """A page with its content and what stands above its title, all HTML but the title and the summary."""
    about = {"title": escape(title), "summary": escape(summary), "above": above, **_own()}
    before, after = _template("report.html").template.split("$content")
    yield Template(before).substitute(about)
    yield from content
    yield Template(after).substitute(about)


def _anchor(asset: ReportAsset, number: int) -> str:
    return f"{number}-" + re.sub(r"[^a-z0-9]+", "-", asset.name.lower()).strip("-")


def _link(asset: ReportAsset, number: int, page: str = "") -> str:
    bad = ' class="bad"' if asset.is_bad else ""
    return f'<a href="{escape(page)}#{_anchor(asset, number)}"{bad}>{escape(asset.name)}</a>'


def _listed(asset: ReportAsset, number: int, page: str) -> str:
    """The row of an asset in the page that lists all."""
    error = f': <span class="error">{escape(asset.error)}</span>' if asset.error else ""
    triangles = escape(asset.files[-1].triangles) if asset.files else ""
    return (
        f'<tr data-name="{escape(asset.name)}"><td>{_link(asset, number, page)}</td>'
        f"<td>{escape(asset.state)}{error}</td>"
        f'<td>{len(asset.files)}</td><td class="n">{triangles}</td><td>{len(asset.findings) or ""}</td></tr>'
    )


def _article(asset: ReportAsset, number: int, part: Part, *, in_the_round: bool) -> Iterator[str]:
    """All there is of an asset."""
    state = f'<span class="state {escape(asset.state)}">{escape(asset.state)}</span>' if asset.state else ""
    yield f'<article id="{_anchor(asset, number)}">\n<div class="head"><h2>{escape(asset.name)}</h2>{state}</div>\n'
    if asset.error:
        yield f'<p class="error">{escape(asset.error)}</p>\n'
    if part.model and in_the_round:
        yield '<div class="round"><script type="application/json">'
        yield part.model
        yield "</script></div>\n"
    elif part.model:
        yield '<p class="faint">Not in the round, as the page would be too large; `zesty-otter look` shows it.</p>\n'
    told = (part.html, *_arrival_told(asset.files), *_findings_told(asset.findings), *_notes_told(asset.notes))
    yield "\n".join([*told, "</article>\n"])


def _arrival_told(files: Sequence[ReportFile]) -> Iterator[str]:
    if files:
        told = "".join(
            f'<tr><td>{escape(one.path)}</td><td class="n">{escape(one.triangles)}</td><td>'
            + (f'<span class="error">{escape("; ".join(one.problems))}</span>' if one.problems else _AS_MEANT)
            + "</td></tr>"
            for one in files
        )
        yield f"<h3>Arrival</h3>{_ARRIVAL}{told}</table></div>"


def _findings_told(findings: Sequence[Finding]) -> Iterator[str]:
    if findings:
        told = "".join(
            f'<tr><td class="{escape(one.severity)}">{escape(one.severity)}</td><td>{escape(one.node)}</td>'
            f"<td>{escape(one.text)}</td><td>{escape(one.mend)}</td></tr>"
            for one in findings
        )
        yield f"<h3>Findings</h3>{_FINDINGS}{told}</table></div>"


@functools.cache
def _own() -> dict[str, str]:
    """The script and the style of a page, and the only script it may run."""
    home = resources.files(__package__)
    script = (home / "viewer.js").read_text("utf-8")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return {"script": script, "style": (home / "look.css").read_text("utf-8"), "digest": f"sha256-{digest}"}


@dataclass(frozen=True)
class Shown:
    """What a part is made of.

    Parameters
    ----------
    before : Scene or None
        What its source holds.
    after : Scene
        What was written.
    names : sequence of (str, str)
        Old and new names of nodes.
    findings : sequence of Finding
    notes : sequence of str
    written : bytes or None
        What the file holds that ``after`` was read from, where it is all of it.
    """

    before: Scene | None
    after: Scene
    names: Sequence[tuple[str, str]] = ()
    findings: Sequence[Finding] = ()
    notes: Sequence[str] = ()
    written: bytes | None = None


def make_parts(shown: Sequence[Shown], *, small: bool = False) -> list[Part]:
    """The pictures and tables of some assets, and them in the round.

    One thing is done for all of them, then the next: what is small takes a third less time so.

    Parameters
    ----------
    shown : sequence of Shown
    small : bool
        Whether they are of so many that their pictures are small ones.
    """
    look = _SMALL if small else _LOOK
    scenes = [_roles().apply(one.after) for one in shown]
    collision = [collision_facts(scene, count=QUICK) for scene in scenes]
    light = [
        as_written(scene, one.written) if small and one.written is not None else None
        for one, scene in zip(shown, scenes, strict=True)
    ]
    packed = [one or pack(scene, _BUDGET) for one, scene in zip(light, scenes, strict=True)]
    pictures = _pictures(scenes, look, light, [bool(one) for one in collision])
    tables = [
        [
            _table(("", "source", "written"), _facts(one.before, _row_in(packed_one.facts, scene)), headed=True),
            *_levels_told(level_facts(scene)),
            *_collision_told(solid),
            *_names_told(one.names[:_MOST_NAMES]),
            *_notes_told(one.notes),
        ]
        for one, scene, packed_one, solid in zip(shown, scenes, packed, collision, strict=True)
    ]
    models = [parcel(one, scene, told.findings) for one, scene, told in zip(packed, scenes, shown, strict=True)]
    return [
        _part("\n".join([pictured, *told]), model)
        for pictured, told, model in zip(pictures, tables, models, strict=True)
    ]


def _part(html: str, model: str) -> Part:
    if len(model) > _MOST_MODEL:
        return Part(
            f'{html}<p class="faint">Not in the round, as it would be too large; `zesty-otter look` shows it.</p>\n'
        )
    return Part(html, model)


def parcel(packed: Packed, scene: Scene, findings: Sequence[Finding] = ()) -> str:
    """A packed scene as JSON that can stand within a page; "" where there is nothing to draw."""
    if not packed.model:
        return ""
    footing = footing_places(scene, QUICK) if packed.facts["kinds"].get("collision") else b""
    said = {"facts": packed.facts, "findings": [finding_facts(one, scene) for one in findings]}
    # A small one of very many is left as it is: packing takes a fifth of the time of its part, and saves a third of it.
    left = packed.facts.get("plain") and len(packed.model) <= _SMALL_MODEL
    model = _text(packed.model, level=0 if left else 1)
    # What is long needs no looking through; nothing in the rest may end the element it stands in.
    return (
        _JSON.encode(said)[:-1].replace("<", "\\u003c")
        + f',"model":"{model}","edges":"{_text(packed.edges)}","footing":"{_text(footing)}"}}'
    )


def _text(data: bytes, *, level: int = 1) -> str:
    if not data:
        return ""
    # As gzip. Of little there is little to gain, and clearing memory takes longer than packing.
    back = min(max(len(data).bit_length(), 9), 15)
    level = 2 if level and len(data) > _SMALL_MODEL else level
    packer = zlib.compressobj(level, zlib.DEFLATED, 16 + back, 5 if len(data) < 4096 else 8)
    return base64.b64encode(packer.compress(data) + packer.flush()).decode()


def framed(scene: Scene) -> str:
    """A scene in the round as HTML for notebooks, which needs no network; "" where there is nothing to draw.

    Parameters
    ----------
    scene : Scene

    Returns
    -------
    str
        A frame that can run its own script and reach nothing else.
    """
    model = parcel(pack(scene, _NOTEBOOK), scene)
    if not model:
        return ""
    text = _template("notebook.html").substitute(model=model, **_own())
    about = f'sandbox="allow-scripts" style="{_FRAME}" title="{escape(repr(scene))}"'
    return f'<iframe {about} srcdoc="{escape(text)}"></iframe>'


@functools.cache
def _template(name: str) -> Template:
    return Template((resources.files(__package__) / name).read_text(encoding="utf-8"))


@functools.cache
def _roles() -> Roles:
    return Roles()


_drawn: OrderedDict[str | int, str] = OrderedDict()
_REMEMBERED = 512  # pictures of light assets without textures: libraries hold the same shape under many names


def _pictures(scenes: Sequence[Scene], look: Look, light: Sequence[Packed | None], solid: Sequence[bool]) -> list[str]:
    """Pictures of scenes as HTML, those of light ones from before where they are the same; ``solid`` have footing."""
    keys = [_like(one, scene, look) if one else n for n, (one, scene) in enumerate(zip(light, scenes, strict=True))]
    known = {key: _drawn[key] for key in keys if key in _drawn}
    new = {key: n for n, key in enumerate(keys) if key not in known}
    shots = [_shots(scenes[n], look, solid=solid[n]) for n in new.values()]
    made = dict(zip(new, map(_figures, shots), strict=True))
    _drawn.update((key, figures) for key, figures in made.items() if isinstance(key, str))
    while len(_drawn) > _REMEMBERED:
        _drawn.popitem(last=False)
    return [made.get(key) or known[key] for key in keys]


def _like(light: Packed, scene: Scene, look: Look) -> str:
    """What scenes have in common whose pictures are the same."""
    nodes = [(one["print"], one["role"], one["visible"], one["kind"]) for one in light.facts["nodes"]]
    return repr((nodes, scene.frame, look))


def _shots(scene: Scene, look: Look, *, solid: bool) -> list[tuple[str, Image.Image]]:
    """Pictures of a scene, and what they show."""
    small = None if look.smooth else small_picture(scene, look.size)
    shots = [("from the front left", small or picture(scene, look))]
    if solid:
        shots.append(("footing: where feet would float (lamplight) or sink (river)",
                      picture(scene, replace(look, style="footing", axes=True))))  # fmt: skip
    return shots


def _figures(shots: Sequence[tuple[str, Image.Image]]) -> str:
    figures = (
        f'<figure><img src="{_data(image)}" alt="{words}" width="{image.width}" height="{image.height}">'
        f"<figcaption>{words}</figcaption></figure>"
        for words, image in shots
    )
    return f'<div class="pictures">{"".join(figures)}</div>'


def _data(image: Image.Image) -> str:
    out = io.BytesIO()
    image.save(out, "JPEG", quality=86)  # made in an eighth of the time of a PNG, and as large
    return f"data:image/jpeg;base64,{base64.b64encode(out.getvalue()).decode()}"


@dataclass(frozen=True)
class _Row:
    """What a table says of a scene: of each node its role, triangles, faces of three kinds, and whether it has more
    than a place."""

    sides: tuple[float, float, float] | None
    unit: float | None
    nodes: list[tuple[str, int, tuple[int, int, int], bool]]
    materials: tuple[str, ...]

    def words(self) -> list[str]:
        size = "nothing placed"
        if self.sides is not None:
            known = (format_length(side * self.unit) if self.unit else f"{side:.4g}" for side in self.sides)
            size = " × ".join(known)
        seen = sum(triangles for role, triangles, _, _ in self.nodes if role == "visible")
        kinds = [sum(faces[k] for _, _, faces, _ in self.nodes) for k in range(3)]
        leftovers = sum(left for _, _, _, left in self.nodes)
        return [
            size,
            triangles_in_words(seen, sum(triangles for _, triangles, _, _ in self.nodes)),
            "{:,} triangles, {:,} quads, {:,} n-gons".format(*kinds),
            count_of(len(self.nodes), "node"),
            ", ".join(self.materials[:8]) or "none",
            count_of(leftovers, "node") if leftovers else "none",
        ]


def _row_of(scene: Scene) -> _Row:
    box = seen_bounds(scene)
    nodes = []
    for one in scene.walk():
        triangles, faces, copies = shown_faces(one.node)
        own = (faces.triangles * copies, faces.quads * copies, faces.ngons * copies)
        nodes.append((one.node.role, triangles, own, bool(leftover(one.node.transform))))
    sides = scene.frame.sides(box) if np.isfinite(box).all() else None
    return _Row(sides, scene.frame.unit, nodes, tuple(one.name for one in scene.materials))


def _row_in(facts: dict[str, Any], scene: Scene) -> _Row:
    """That of a scene that is packed."""
    nodes = []
    for one in facts["nodes"]:
        triangles, quads, ngons = (count * one["copies"] for count in one["faces"] or (0, 0, 0))
        nodes.append((one["role"], one["triangles"], (triangles, quads, ngons), bool(one["leftover"])))
    box = facts["bounds"]
    width, height, depth = (high - low for low, high in zip(*box, strict=True)) if box else (0.0, 0.0, 0.0)
    unit = None if facts["unit"] is None else 1.0
    return _Row((width, height, depth) if box else None, unit, nodes, tuple(one.name for one in scene.materials))


def _facts(before: Scene | None, after: _Row) -> list[tuple[str, str, str]]:
    labels = ("size", "drawn triangles", "faces", "nodes", "materials", "transforms left")
    source = ["not read"] * len(labels) if before is None else _row_of(before).words()
    return list(zip(labels, source, after.words(), strict=True))


def _table(
    head: Sequence[str], rows: Iterable[Sequence[str]], *, numbers: int | None = None, headed: bool = False
) -> str:
    """A table as HTML: with numbers from a column on, and with names of rows in the first."""

    def line(cells: Sequence[str], first: str, others: str) -> str:
        made = [f"<{first}>{escape(cells[0])}</{first}>"]
        for k, cell in enumerate(cells[1:], 1):
            own = ' class="n"' if numbers is not None and k >= numbers else ""
            made.append(f"<{others}{own}>{escape(cell)}</{others}>")
        return f"<tr>{''.join(made)}</tr>"

    lines = [line(head, "th", "th"), *(line(cells, "th" if headed else "td", "td") for cells in rows)]
    return f'<div class="wide"><table>{"".join(lines)}</table></div>'


def _levels_told(levels: Sequence[LevelFacts]) -> Iterator[str]:
    if levels:
        head = ["level", "triangles", "moved by", "from"]
        if any(level.appearance is not None for level in levels):
            head.append("looks different in")
        rows = [_level_row(level)[: len(head)] for level in levels[:_MOST_ROWS]]
        yield f"<h3>Levels of detail</h3>{_table(head, rows, numbers=1)}{_chart(levels)}"


def _collision_told(collision: Sequence[CollisionFacts]) -> Iterator[str]:
    if collision:
        head = ("of", "shape", "parts", "floats", "sinks", "blocks")
        yield f"<h3>Collision</h3>{_table(head, map(_collision_row, collision), numbers=2)}"


def _names_told(names: Sequence[tuple[str, str]]) -> Iterator[str]:
    if names:
        yield f"<h3>Names</h3>{_table(('in the source', 'written'), names)}"


def _notes_told(notes: Sequence[str]) -> Iterator[str]:
    if notes:
        told = "".join(f"<p>{escape(note)}</p>" for note in notes)
        yield f"<details><summary>{count_of(len(notes), 'note')}</summary>{told}</details>"


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
