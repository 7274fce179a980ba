"""Rules on what things are called."""

from __future__ import annotations

import re

from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.audit.surveying import clashing
from zesty_otter.model import default_names


@rule("name-default", "warning", "names replace_defaults={file}_{number}")
def _name_default(subject: Subject) -> Found:
    """A default name."""
    for name in default_names(subject.scene):
        yield name, "has a default name"


@rule("name-clash", "error", "names")
def _name_clash(subject: Subject) -> Found:
    """Names that are equal, or differ only in case."""
    for name in clashing([one.node.name for one in subject.placed]):
        yield name, "another node has this name, when case is ignored"


@rule("name-unsafe", "error", "names")
def _name_unsafe(subject: Subject) -> Found:
    """Characters that the target does not allow."""
    for one in subject.placed:
        odd = sorted(set(re.sub(f"[.{subject.target.allowed_characters}]", "", one.node.name)))
        if odd:
            yield one.node.name, f"has characters that are not allowed: {' '.join(repr(c) for c in odd[:6])}"


@rule("name-long", "error", "names longest=...")
def _name_long(subject: Subject) -> Found:
    """A name longer than the target allows."""
    most = subject.target.longest_name
    for one in subject.placed:
        if len(one.node.name) > most:
            yield one.node.name, f"has {len(one.node.name)} characters, {most} are allowed"


@rule("name-template", "warning", "names")
def _name_template(subject: Subject) -> Found:
    """A name that does not show its role the way the target expects."""
    for one in subject.placed:
        template = subject.target.names.get(one.node.role)
        if template is None or one.node.kind == "empty":
            continue
        pattern = re.escape(template).replace(r"\{name\}", ".+").replace(r"\{level\}", r"\d+").replace(r"\{n\}", r"\d+")
        if not re.fullmatch(pattern, one.node.name):
            yield one.node.name, f"is a {one.node.role} that is not named like {template}"
