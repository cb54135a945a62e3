"""Numbers as people read them: what is written can be read back, to three digits, with its unit."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.targets.target import parse_bytes
from oaktrim.core.units import (
    bytes_beside,
    bytes_like,
    bytes_text,
    change_text,
    decibels_text,
    point_of,
    size_of,
    size_text,
)

COUNTS = st.integers(0, 1 << 45)


@given(COUNTS)
def test_bytes_read_back_to_three_digits(count):
    text = bytes_text(count)
    assert parse_bytes(text.replace(",", "")) == pytest.approx(count, rel=0.006, abs=0.5)
    number, unit = text.split()
    digits = re.sub(r"[^\d]", "", number)
    assert unit in ("B", "KiB", "MiB", "GiB", "TiB") and (len(digits) <= 4 or unit == "TiB")
    # The unit is the largest that leaves at least one.
    assert unit == "B" or float(number.replace(",", "")) >= 0.999


@given(st.integers(1, 1 << 40), st.booleans())
def test_a_change_has_one_sign_and_its_words(change, about):
    grown, shrunk = change_text(change, about), change_text(-change, about)
    assert shrunk.replace("−", "+") == grown and grown.count("+") == 1 and shrunk.count("−") == 1
    assert grown.startswith("about +" if about else "+") and bytes_text(change) in grown
    assert change_text(change, gain="") == bytes_text(change)


@given(COUNTS, st.sampled_from(["40 MB", "64 MiB", "300 kB", "2 GB", "1536 KiB", "whatever"]))
def test_values_stand_in_the_unit_of_their_limit(count, stated):
    text = bytes_like(count, stated)
    unit = stated.split()[-1]
    assert text.endswith(unit) or unit not in ("kB", "MB", "GB")
    if unit in ("kB", "MB", "GB"):
        power = {"kB": 1e3, "MB": 1e6, "GB": 1e9}[unit]
        assert float(text.split()[0].replace(",", "")) * power == pytest.approx(count, rel=0.006, abs=power * 0.006)
    beside = bytes_beside(count, stated, stated)
    assert beside in (text, text.split()[0])
    assert (" " not in beside) == (text.split()[-1] == stated.split()[-1])


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("1920x1080", (1920, 1080)),
        ("640×480", (640, 480)),
        ("800,600", (800, 600)),
        ("1X1", (1, 1)),
        ("16384x1", (16384, 1)),
    ],
)
def test_sizes_of_screens(text, size):
    assert size_of(text) == size


@pytest.mark.parametrize("text", ["", "1920", "axb", "1x2x3", "0x5", "16385x1", "-1x5", "1.5x2"])
def test_what_is_no_size_is_told(text):
    with pytest.raises(ValueError, match=r"size in pixels|a screen is"):
        size_of(text)


@given(st.tuples(*[st.integers(-1000, 1000)] * 3))
def test_points_come_back(point):
    assert point_of(",".join(map(str, point))) == point
    assert point_of(" ; ".join(map(str, point))) == point


def test_words_for_the_rest():
    assert size_text(512, 512) == "512²" and size_text(512, 256) == "512×256"
    assert decibels_text(None) == decibels_text(float("inf")) == "exact" and decibels_text(41.26) == "41.3 dB"
    with pytest.raises(ValueError, match="three numbers"):
        point_of("1,2")
