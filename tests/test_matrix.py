"""What formats carry, and that all they change or lose is said."""

from __future__ import annotations

import pytest

import matrix
from build import ENDINGS

PROBES = {probe.what: probe for probe in matrix.probes()}


@pytest.mark.parametrize("ending", ENDINGS)
@pytest.mark.parametrize("what", PROBES)
def test_whatever_is_changed_or_lost_is_said(tmp_path, what, ending):
    found = matrix.answer(PROBES[what], ending, tmp_path)
    assert found.state == "kept" or found.notes


def test_the_page_says_what_is_found(tmp_path):
    """Where it does not: `make docs` writes it anew."""
    assert matrix.PAGE.read_text("utf-8") == matrix.page(tmp_path)
