"""The reports: boards make up the whole, and all that ships has its row, with what it ships as."""

import csv
import json
import re

import numpy as np
import pytest
import soundfile

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.page import as_html
from oaktrim.core.plan.report import as_csv, as_json, survey
from oaktrim.core.plan.soundcuts import SetCodec, SetMono
from oaktrim.core.progress import finish
from oaktrim.core.sounds.codecs import SoundCodec
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named
from oaktrim.core.units import bytes_beside
from tests.kit.models import add_mesh, scene
from tests.kit.trees import put, surveyed, write_model


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


def test_what_is_no_texture_stands_in_every_report(tmp_path):
    root = tmp_path / "art"
    put(root, "bark_base.png")
    tone = np.repeat(np.sin(np.arange(88_200) / 9)[:, None] / 2, 2, axis=1)
    soundfile.write(root / "hum.wav", tone, 44_100)
    model = GltfWriter()
    scene(model, model.add("nodes", name="square", mesh=add_mesh(model)))
    write_model(root, "square.glb", model)
    cache = SurveyCache(tmp_path)
    changes = SetMono(True), SetCodec(SoundCodec.VORBIS, 0.3)
    cuts = tuple(Cut(change, ("hum.wav",), ("pocket",)) for change in changes)
    inventory = surveyed(root)
    # One of its findings is suppressed, which the page counts.
    codes = frozenset({("stereo-is-mono", "hum.wav")})
    targets = [target_named("pocket"), target_named("lounge")]
    found = finish(survey(inventory, targets, cache, cuts, checks=Checks(suppressed=codes)))
    others = {row["path"]: row for row in json.loads(as_json(found))["others"]}
    assert set(others) == {"hum.wav", "square.glb"}
    rows = {row["path"]: row for row in csv.DictReader(as_csv(found).decode().splitlines())}
    assert set(rows) == {"bark_base.png", "hum.wav", "square.glb"}
    hum = rows["hum.wav"]
    assert (hum["family"], hum["width"], hum["role"]) == ("audio", "", others["hum.wav"]["role"])
    assert int(hum["pocket_memory"]) == 88_200 * 2 == others["hum.wav"]["memory"]["pocket"]
    assert int(hum["lounge_package"]) == others["hum.wav"]["package"]["lounge"] > 10 * int(hum["pocket_package"])
    assert hum["pocket_format"] == "ships as Vorbis 0.3, 44.1 kHz mono, 2.00 s"
    assert hum["lounge_format"] == "ships as it is"
    assert hum["findings"].split() == others["hum.wav"]["findings"]
    assert rows["square.glb"]["family"] == "meshes" and int(rows["square.glb"]["pocket_package"]) > 0
    page = as_html(found, lambda row: None).decode()
    cells = dict(re.findall(r"<tr><td>([^<]+)</td>(.*?)</tr>", page, re.S))
    assert set(cells) == set(rows)
    assert hum["pocket_format"] in cells["hum.wav"] and hum["lounge_format"] in cells["hum.wav"]
    assert f'data-v="{hum["pocket_package"]}"' in cells["hum.wav"]
    assert f"{found.suppressed} findings suppressed" in page and found.suppressed == 1
