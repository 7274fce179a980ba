"""A scene checked against what a target expects."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from zesty_otter.audit.findings import Finding
from zesty_otter.audit.rules import Rule, Spot, Subject, all_rules, refuse_unknown
from zesty_otter.model import Scene
from zesty_otter.targets import Target

_OF_LEVELS = ("level-doubled", "level-gap", "level-not-lighter", "level-orphaned", "level-displaced")


def check(scene: Scene, target: Target) -> list[Finding]:
    """What a target would object to, the worst first.

    Parameters
    ----------
    scene : Scene
        As read from the file that the target is to receive.
    target : Target
        Its ``severities`` say which rules are errors, warnings or of no interest to it.

    Returns
    -------
    list of Finding

    Raises
    ------
    UsageError
        When the target has a severity for a rule that is not there.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> for finding in zo.audit.check(zo.Scene.from_mesh(sail), zo.targets.load("m-left-up-forward")):
    ...     print(finding)
    sail: has neither normals nor smoothing groups (normals by=angle angle=30 mends it)
    """
    return _findings(scene, target, all_rules().values())


def over_limits(scene: Scene, target: Target) -> list[Finding]:
    """Every limit of the target that a scene breaks, and everything it asks for that is not there."""
    return _findings(scene, target, [one for one in all_rules().values() if one.limit])


def of_levels(scene: Scene) -> list[Finding]:
    """What is wrong with the levels of detail of a scene, whatever receives it."""
    return _findings(scene, Target(), [one for one in all_rules().values() if one.name in _OF_LEVELS])


def _findings(scene: Scene, target: Target, rules: Iterable[Rule]) -> list[Finding]:
    refuse_unknown(target)
    severities = target.severities
    wanted = [one for one in rules if severities.get(one.name) != "off"]
    found = dict.fromkeys(finding for finding in _broken(Subject(scene, target), wanted))
    judged = [replace(one, severity=severities.get(one.rule, one.severity)) for one in found]
    return sorted(judged, key=lambda one: one.severity != "error")


def _broken(subject: Subject, rules: Iterable[Rule]) -> Iterator[Finding]:
    for one in rules:
        for hit in one.find(subject):
            if isinstance(hit, Spot):
                yield Finding(one.name, one.severity, hit.text, hit.where, hit.mend or one.mend, hit.place)
            else:
                where, text, *mend = hit
                yield Finding(one.name, one.severity, text, where, mend[0] if mend else one.mend)


def steps_that_mend(findings: Iterable[Finding]) -> list[str]:
    """The steps that would mend what was found, each once, in the order in which steps are taken.

    Those with settings that only people can choose are left out.

    Parameters
    ----------
    findings : iterable of Finding

    Returns
    -------
    list of str
        As `--step` and `zesty_otter.steps.step_from_text` take them.

    Examples
    --------
    >>> from zesty_otter.audit import Finding
    >>> steps_that_mend([Finding("name-default", "warning", "has a default name", "cube.001", "names")])
    ['names']
    """
    from zesty_otter.steps import STEPS

    wanted = {one.mend for one in findings if one.mend and "..." not in one.mend}
    wanted -= {one.split()[0] for one in wanted if " " in one}
    order = list(STEPS)
    return sorted(wanted, key=lambda text: (order.index(text.split()[0]) if text.split()[0] in order else 99, text))
