"""`zesty-otter check`: what is wrong for a target."""

from __future__ import annotations

import json as plain_json
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any
from xml.etree import ElementTree

import typer
from rich.markup import escape

from zesty_otter import formats, targets
from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.errors import InputError, UsageError
from zesty_otter.formats.files import save
from zesty_otter.model import count_of

_MOST = 40


def command(
    files: Annotated[list[Path], typer.Argument(help="Files to check.", show_default=False)],
    target: Annotated[str | None, typer.Option("--target", metavar="NAME", help="Target to check for.")] = None,
    junit: Annotated[
        Path | None, typer.Option("--junit", metavar="OUT.xml", help="Write the findings as XML for a build server.")
    ] = None,
    fix: Annotated[
        Path | None,
        typer.Option("--fix", metavar="JOB.toml", help="Write a job with the steps that mend the findings."),
    ] = None,
    unit: console.Unit = None,
    axes: console.Axes = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Check files against what a target expects; exit status 1 when a finding is an error."""
    from zesty_otter.audit.checks import check, steps_that_mend

    wanted = targets.load(target) if target else targets.Target(name="any", title="what most targets ask for")
    if fix is not None and fix.suffix != ".toml":
        raise UsageError("jobs are TOML files.", file=fix, remedy="Give a name that ends in .toml.")
    documents: list[dict[str, Any]] = []
    cases: list[tuple[Path, list[Any] | str]] = []
    status = 0
    every = []
    for number, path in enumerate(files):
        try:
            with console.progress(f"Checking {path.name}", quiet=quiet or json) as progress:
                scene = formats.read(path, unit, axes, progress=progress)
            found = check(scene, wanted)
        except InputError as error:
            if len(files) == 1:
                raise
            status = max(status, error.exit_status)
            cases.append((path, str(error)))
            documents.append({"source": str(path), "error": str(error)})
            console.messages.print(f"[problem]zesty-otter:[/] {escape(str(error))}", soft_wrap=True)
            continue
        errors = sum(one.severity == "error" for one in found)
        status = max(status, 1 if errors else 0)
        every += found
        cases.append((path, found))
        documents.append({"source": str(path), "target": wanted.name, "findings": [asdict(one) for one in found]})
        if not json:
            if number:
                results.print()
            _show(path, found, wanted, verbose=verbose)
    if junit is not None:
        save({junit.name: [_junit(cases)]}, junit, inputs=files)
    if fix is not None:
        mending = steps_that_mend(every)
        save({fix.name: [_job(files, fix, target, unit, axes, mending).encode()]}, fix, inputs=files)
        if not json:
            words = f"{count_of(len(mending), 'step')} to mend this, written to"
            results.print(f"\n{words} [title]{escape(str(fix))}[/]: zesty-otter run {escape(str(fix))}", soft_wrap=True)
    if json:
        console.print_json(documents[0] if len(files) == 1 else documents)
    return status


def _show(path: Path, found: list[Any], target: targets.Target, *, verbose: bool) -> None:
    errors = sum(one.severity == "error" for one in found)
    name = escape(f"{path.name} for {target.name}")
    if not found:
        results.print(f"[title]{name}[/]: [done]nothing to object to[/]")
        return
    counts = " and ".join(
        count_of(count, word) for count, word in ((errors, "error"), (len(found) - errors, "warning")) if count
    )
    results.print(f"[title]{name}[/]: {counts}")
    made = console.table("", "where", "what", "rule", "what mends it", whole=("rule",))
    shown = list(console.together((("", one) for one in found), apart=verbose))
    for _, one, alike in shown if verbose else shown[:_MOST]:
        look = "problem" if one.severity == "error" else "finding"
        where = f"{one.node} and {alike - 1:,} more" if alike > 1 else one.node
        made.add_row(f"[{look}]{one.severity}[/]", escape(where), escape(one.text), one.rule, escape(one.mend))
    if len(shown) > _MOST and not verbose:
        made.add_row("", f"[faint]and {len(shown) - _MOST} more; --verbose shows all[/]")
    results.print(made)


def _junit(cases: list[tuple[Path, list[Any] | str]]) -> bytes:
    """The findings as JUnit XML: a suite for each file, a case for each rule that was broken."""
    root = ElementTree.Element("testsuites")
    for path, found in cases:
        suite = ElementTree.SubElement(root, "testsuite", name=str(path))
        if isinstance(found, str):
            case = ElementTree.SubElement(suite, "testcase", classname=path.stem, name="can be read")
            ElementTree.SubElement(case, "error", message=found)
            suite.set("tests", "1")
            suite.set("errors", "1")
            continue
        by_rule: dict[str, list[Any]] = {}
        for one in found:
            by_rule.setdefault(one.rule, []).append(one)
        failures = 0
        for rule, own in by_rule.items():
            case = ElementTree.SubElement(suite, "testcase", classname=path.stem, name=rule)
            text = "\n".join(str(one) for one in own)
            if any(one.severity == "error" for one in own):
                failures += 1
                ElementTree.SubElement(case, "failure", message=str(own[0])).text = text
            else:
                ElementTree.SubElement(case, "system-out").text = text
        if not by_rule:
            ElementTree.SubElement(suite, "testcase", classname=path.stem, name="nothing to object to")
        suite.set("tests", str(max(len(by_rule), 1)))
        suite.set("failures", str(failures))
    ElementTree.indent(root)
    data: bytes = ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)
    return data


def _job(
    files: list[Path], fix: Path, target: str | None, unit: str | None, axes: str | None, mending: list[str]
) -> str:
    """A job that reads the files, takes the steps and writes beside them."""
    quoted = plain_json.dumps
    where = [one.resolve() for one in files]
    home = fix.parent.resolve()
    sources = [one.relative_to(home).as_posix() if one.is_relative_to(home) else one.as_posix() for one in where]
    lines = ['title = "Mends what the check found."', 'folder = "mended"']
    if target is not None:
        name = Path(target).resolve().as_posix() if target.endswith(".toml") else target
        lines.append(f"target = {quoted(name)}")
    lines += ["", "[[sources]]", f"files = {quoted(sources, ensure_ascii=False)}"]
    lines += [f"{key} = {quoted(value)}" for key, value in (("unit", unit), ("axes", axes)) if value]
    for text in mending:
        slug, *settings = text.split()
        lines += ["", "[[steps]]", f"step = {quoted(slug)}"]
        for setting in settings:
            key, _, value = setting.partition("=")
            number = value.replace(".", "", 1).isdecimal()
            lines.append(f"{key} = {value if number else quoted(value)}")
    lines += ["", "[[outputs]]"]
    if target is None:
        lines.append('formats = "glb"')
    return "\n".join(lines) + "\n"
