"""The report as a page: its boards make up the whole, however many there are."""

import re

import pytest

from oaktrim.core.plan.page import as_html
from oaktrim.core.plan.report import survey
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named
from oaktrim.core.units import bytes_beside
from tests.kit.trees import put


def test_boards_too_narrow_to_see_stand_together(tmp_path):
    root = tmp_path / "art"
    for number in range(260):
        put(root, f"part_{number:03d}/bark_base.png", size=(16, 16))
    put(root, "trunk/bark_base.png", size=(64, 64))
    cache = SurveyCache(tmp_path)
    found = finish(survey(finish(scan(root, cache=cache)), [target_named("pocket")], cache))
    page = as_html(found, lambda row: None).decode()
    objects = re.search(r">object</div><div class=\"boards\">(.*?)\n", page).group(1)
    widths = [float(width) for width in re.findall(r"width:([\d.]+)%", objects)]
    assert len(widths) == 2, "one folder is wide enough for a board of its own; the others are one"
    assert sum(widths) == pytest.approx(100, abs=0.01)
    assert "260 smaller" in objects


def test_a_figure_beside_another_keeps_its_unit_unless_it_is_the_same():
    assert bytes_beside(3 << 29, "144 MiB", "144 MiB") == "1.50 GiB"
    assert bytes_beside(96 << 20, "144 MiB", "144 MiB") == "96.0"
    assert bytes_beside(41_500_000, "40 MB", "40 MB") == "41.5"
