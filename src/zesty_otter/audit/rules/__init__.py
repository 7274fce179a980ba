"""The rules: one file per subject, each rule a function that declares itself, found here in one table."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib import import_module

from zesty_otter._plugins import plugins
from zesty_otter.audit.rules.base import RULES, Found, Rule, Spot, Subject, rule
from zesty_otter.errors import UsageError, closest
from zesty_otter.targets import Target

_OWN = ("places", "names", "faces", "shading", "collision", "tree", "limits")


@cache
def all_rules() -> Mapping[str, Rule]:
    """Every rule by its name, in the order in which findings are told; those of other packages last.

    A package brings rules by an entry point in the group ``zesty_otter.checks`` that names a module with functions
    decorated with `rule`.
    """
    for name in _OWN:
        import_module(f"zesty_otter.audit.rules.{name}")
    plugins("zesty_otter.checks")
    return RULES


def refuse_unknown(target: Target) -> None:
    """Complain about severities of rules that are not there.

    Raises
    ------
    UsageError
        Naming the rule, and the one that was probably meant.
    """
    known = list(all_rules())
    for name in target.severities:
        if name not in known:
            raise UsageError(
                f"target '{target.name}' has a severity for '{name}', which is not a rule.{closest(name, known)}",
                remedy="docs/checks.md lists the rules.",
            )


__all__ = ["Found", "Rule", "Spot", "Subject", "all_rules", "refuse_unknown", "rule"]
