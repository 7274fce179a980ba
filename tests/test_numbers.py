from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_otter.formats._numbers import number_at

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well


def read(text: str) -> tuple[float, int, bool]:
    data = np.frombuffer((text + "\n").encode(), np.uint8)
    return number_at(data, 0, len(data) - 1)


@given(st.floats(allow_nan=False).filter(lambda value: value == 0 or abs(value) > 1e-300))
def test_every_double_is_read_to_the_last_bit(value):
    assert read(repr(value))[0] == value


@given(st.integers(0, 10**18 - 1), st.integers(-320, 310), st.sampled_from(["e", "E"]))
def test_whole_numbers_with_exponents_are_read_as_python_reads_them(digits, exponent, mark):
    text = f"{digits}{mark}{exponent}"
    if float(text) == 0 or float(text) > 1e-300:
        assert read(text)[0] == float(text)


@pytest.mark.parametrize(
    "text", ["+1.5", "1.", ".5", "-.5e1", "1E+3", "00001.5", "1e-3", "-0", "1e400", "123456789012345678901"]
)
def test_legal_spellings(text):
    assert read(text) == (float(text), len(text), True)


@pytest.mark.parametrize("text", ["nan", "-NaN", "inf", "-Infinity", "-nan(ind)"])
def test_words_for_what_is_no_number(text):
    value, end, found = read(text)
    assert found
    assert end == len(text)
    assert not math.isfinite(value)


@pytest.mark.parametrize("text", ["", "-", "abc", "e5", ".", "#"])
def test_what_is_no_number_is_not_read_as_one(text):
    assert read(text)[2] is False


def test_a_number_ends_where_its_spelling_does():
    assert read("1.5abc")[1] == 3
    assert read("1e")[:2] == (1.0, 1)
