"""What all commands print with: results to standard output, progress and notes to standard error."""

from __future__ import annotations

import contextlib
import json
import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer
from rich.console import Console
from rich.markup import escape
from rich.theme import Theme

if TYPE_CHECKING:
    from rich.table import Table

    from zesty_otter.audit import CollisionFacts
    from zesty_otter.audit.findings import Finding
    from zesty_otter.model import Note
    from zesty_otter.steps import LevelFacts

_THEME = Theme(
    {
        "title": "bold #5fa88f",
        "label": "#5fa88f",
        "value": "default",
        "faint": "dim",
        "assumed": "#d9a441",
        "lost": "#e0724f",
        "finding": "#d9a441",
        "done": "#5fa88f",
        "problem": "bold #e0724f",
        "bar.complete": "#5fa88f",
        "bar.finished": "#5fa88f",
    }
)


class _Console(Console):
    def on_broken_pipe(self) -> None:
        """Left to `main`, which ends quietly."""
        raise BrokenPipeError


results = _Console(theme=_THEME, highlight=False)
messages = _Console(theme=_THEME, highlight=False, stderr=True)


def option(group: str, *names: str, metavar: str | None = None, help: str = "") -> Any:
    """An option of a command that stands in a group of the help."""
    return typer.Option(*names, metavar=metavar, help=help, rich_help_panel=group)


Json = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print no notes and no progress.")]
Verbose = Annotated[bool, typer.Option("--verbose", "-v", help="Print every note, including routine ones.")]
Unit = Annotated[
    str | None,
    typer.Option(
        "--unit", metavar="UNIT", help="Unit of the source: mm, cm, m, in, ft or metres.", rich_help_panel="Source"
    ),
]
Axes = Annotated[
    str | None,
    typer.Option(
        "--axes",
        metavar="'X Y Z'",
        help="What +X, +Y and +Z of the source mean, e.g. 'right forward up'.",
        rich_help_panel="Source",
    ),
]
Pose = Annotated[
    str | None,
    typer.Option(
        "--pose",
        metavar="NAME@SECONDS",
        help="Freeze at this moment of an animation instead of at rest.",
        rich_help_panel="Source",
    ),
]
SceneName = Annotated[
    str | None,
    typer.Option(
        "--scene",
        metavar="NAME",
        help="Scene to read from a file with several: name, or number from 0.",
        rich_help_panel="Source",
    ),
]
FacetsText = Annotated[
    str | None,
    typer.Option(
        "--facets",
        metavar="WORDS",
        help="How exact surfaces become polygons: 'chord=0.2mm angle=20 shortest=1mm', 'density=0.3', ngons.",
        rich_help_panel="Source",
    ),
]
_NOTE_LIMIT = 12
_MOST_REASONS = 8


def print_json(document: Any) -> None:
    """One JSON document; numbers that JSON does not have become null."""
    print(json.dumps(_plain(document), ensure_ascii=False, indent=2))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def table(*columns: str, title: str = "", numbers: Iterable[str] = (), whole: Iterable[str] = ()) -> Table:
    """An empty table in our style; columns named in ``numbers`` are aligned to the right, names in those named in
    ``whole`` are not broken."""
    from rich.table import Table

    made = Table(title=title or None, title_justify="left", title_style="title", box=None, pad_edge=False)
    made.header_style = "label"
    right, kept = set(numbers), set(whole)
    for column in columns:
        justify: Literal["left", "right"] = "right" if column in right else "left"
        made.add_column(column, justify=justify, overflow="fold", no_wrap=column in kept or column in right)
    return made


def facts(rows: Iterable[tuple[str, str]]) -> Table:
    """Labels and values in two columns."""
    from rich.table import Table

    made = Table(box=None, show_header=False, pad_edge=False)
    made.add_column(style="label", no_wrap=True)
    made.add_column(overflow="fold")
    for label, value in rows:
        made.add_row(label, value)
    return made


def level_table(levels: Sequence[LevelFacts]) -> Table:
    """Levels of detail and what was measured of them: how far the surface moved (at most, and in 95 of 100 places),
    normals turned and the texture slid, the distance from which nobody sees it, its share of the picture there, and
    how many of its pixels look different there.
    """
    numbers = ["triangles", "moved by", "mostly", "turned", "texture", "from", "screen"]
    looked_at = any(one.appearance is not None for one in levels)
    numbers += ["looks"] if looked_at else []
    made = table("level", *numbers, title="Levels of detail", numbers=numbers, whole=("level",))
    for one in levels:
        made.add_row(
            escape(one.node),
            f"{one.triangles:,}",
            _length(one.deviation),
            _length(one.deviation_95),
            "" if one.normal_deviation is None else f"{one.normal_deviation:.3g}°",
            _length(one.texture_slide),
            "anywhere" if one.distance is not None and one.distance < 0.1 else _length(one.distance),
            "" if one.screen_height is None or one.screen_height > 10 else f"{100 * one.screen_height:.3g} %",
            *([] if not looked_at else ["" if one.appearance is None else f"{100 * one.appearance:.2g} %"]),
        )
    return made


def collision_table(found: Sequence[CollisionFacts]) -> Table:
    """Collision and what was measured of it: how far feet would float or sink at most, and in 95 of 100 places, how
    far sides stand out, the largest ball of open space that is blocked; below it, why no cheaper
    shape was taken.
    """
    numbers = ("parts", "corners", "floats", "sinks", "mostly", "sideways", "blocks")
    made = table("collision of", "shape", *numbers, title="Collision", numbers=numbers, whole=("collision of", "shape"))
    for one in found:
        falls = f"{100 * one.falls:.3g} % fall" if one.falls > 0.0005 else _length(one.sinks)
        feet = (_length(one.floats), falls, _length(one.off_95)) if one.places else ("", "nobody stands", "")
        made.add_row(
            escape(one.asset),
            one.shape,
            str(one.parts),
            f"{one.corners:,}",
            *feet,
            _length(one.sideways),
            _length(one.blocked),
        )
    # Nine columns: nearer to each other where they would have to be broken else.
    made.collapse_padding = (
        results.measure(made, options=results.options.update(max_width=1000)).maximum > results.width
    )
    # Below the table, which is as wide as many a terminal already.
    reasons = [escape(f"{one.asset}: {one.shape}, as {one.why}") for one in found if one.why]
    made.caption = "\n".join(reasons[:_MOST_REASONS]) or None
    made.caption_justify, made.caption_style = "left", "faint"
    return made


def _length(metres: float | None) -> str:
    from zesty_otter.model import format_length

    if metres is None:
        return ""
    return "0" if metres < 1e-7 else format_length(float(f"{metres:.3g}"))


def print_notes(notes: Iterable[Note], *, verbose: bool, quiet: bool) -> None:
    """Notes on standard error; what went as asked only when wanted."""
    if quiet:
        return
    shown = [note for note in notes if verbose or note.kind != "done"]
    limit = len(shown) if verbose else _NOTE_LIMIT
    if shown:
        messages.print()
    for note in shown[:limit]:
        messages.print(f"[{note.kind}]{note.kind}[/] {escape(str(note))}", soft_wrap=True)
    if len(shown) > limit:
        messages.print(f"[faint]and {len(shown) - limit} more notes; --verbose shows all[/]")


def format_size(size: tuple[float, float, float], unit: float, digits: int = 4) -> str:
    """Width × height × depth in the metre unit that suits the largest of them."""
    metres = [side * unit for side in size]
    largest = max(metres)
    scales = ((0.01, 1000.0, "mm"), (1.0, 100.0, "cm"), (10000.0, 1.0, "m"))
    factor, name = next(((factor, name) for limit, factor, name in scales if largest < limit), (0.001, "km"))
    return " × ".join(f"{side * factor:.{digits}g}" for side in metres) + f" {name}"


def format_bytes(count: int) -> str:
    """A file size as people say it."""
    for limit, factor, name in ((1e3, 1, "bytes"), (1e6, 1e3, "kB"), (1e9, 1e6, "MB")):
        if count < limit:
            return f"{count / factor:.3g} {name}"
    return f"{count / 1e9:.3g} GB"


def together(findings: Iterable[tuple[str, Finding]], *, apart: bool) -> Iterator[tuple[str, Finding, int]]:
    """Findings of assets with how many there are that differ in nothing but the node; all of them when ``apart``."""
    alike: dict[tuple[str, str, str], list[Finding]] = {}
    for asset, finding in findings:
        alike.setdefault((asset, finding.rule, finding.text), []).append(finding)
    for (asset, _, _), group in alike.items():
        yield from ((asset, one, 1) for one in group) if apart else [(asset, group[0], len(group))]


def print_findings(findings: Iterable[tuple[str, Finding]], *, verbose: bool, quiet: bool) -> None:
    """Findings of assets on standard error, those that differ in nothing but the node counted together."""
    shown = list(together(findings if not quiet else (), apart=verbose))
    limit = len(shown) if verbose else _NOTE_LIMIT
    for asset, finding, alike in shown[:limit]:
        look = "problem" if finding.severity == "error" else "finding"
        more = f" (and {alike - 1:,} more like it)" if alike > 1 else ""
        where = f"{asset}, " if asset else ""
        messages.print(f"[{look}]{finding.severity}[/] {escape(where)}{escape(str(finding))}{more}", soft_wrap=True)
    if len(shown) > limit:
        messages.print(f"[faint]and {len(shown) - limit} more findings; --verbose shows all[/]")


@contextlib.contextmanager
def stages(*, quiet: bool) -> Iterator[Callable[[str, float], None]]:
    """A progress bar for what is done in several stages; yields what to call with the stage and its share."""
    with progress("Starting", quiet=quiet) as bar:
        yield lambda stage, share: bar(share, stage)


@contextlib.contextmanager
def progress(what: str, *, quiet: bool) -> Iterator[Callable[..., None]]:
    """A progress bar on standard error while the body runs; yields what to call with the share done, and what
    is done when that changes."""
    if quiet or not messages.is_terminal:
        yield lambda share, stage=what: None
        return
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeElapsedColumn(),
    )
    with Progress(*columns, console=messages, transient=True) as bar:
        task = bar.add_task(what, total=1.0)
        yield lambda share, stage=what: bar.update(task, completed=share, description=stage)
