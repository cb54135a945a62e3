"""`oak-trim sight` and `oak-trim station`, as a build machine runs them."""

import json
import subprocess

import numpy as np
import pytest
from PIL import Image as PillowImage

from tests.cli.test_commands import COMMAND, run
from tests.kit.sights import wall


@pytest.fixture
def job(tmp_path):
    root = tmp_path / "art"
    root.mkdir()
    wall(root, half=1.0)
    run("job", "new", root, "--out", tmp_path / "a.oak", "--target", "lounge")
    return tmp_path / "a.oak"


def test_without_anything_to_look_from_it_says_what_to_do(job):
    said = run("sight", job, "--target", "lounge", status=2)
    assert "oak-trim station" in said and "--portrait" in said
    assert "No sightlines" in run("station", job, "list")


@pytest.mark.slow
def test_stations_are_kept_in_the_job_and_answered(job, tmp_path):
    run("station", job, "add", "door", "--eye", "0,0,4", "--target", "0,0,0", "--yfov", "60", "--screen", "800x450")
    run("station", job, "add", "lane", "--eye", "0,0,40", "--target", "0,0,0", "--yfov", "1.0472")
    listed = run("station", job, "list")
    assert "door: from 0, 0, 4 to 0, 0, 0, 60.0 degrees, 800×450" in listed and "lane" in listed
    found = json.loads(run("sight", job, "--target", "lounge", "--as", "json", "--pictures", tmp_path / "shots"))
    assert found["schema"] == "oak-trim.sight/1"
    door, lane = found["stations"]
    assert (door["name"], door["eye"], door["screen"]) == ("door", [0, 0, 4], [800, 450])
    assert door["yfov"] == pytest.approx(lane["yfov"], abs=1e-4) == pytest.approx(np.pi / 3, abs=1e-4)
    (row,) = found["textures"]
    pixel = 2 * 4 * np.tan(np.pi / 6) / 450
    assert row["path"] == "wall_base.png" and (row["width"], row["height"]) == (256, 256)
    assert row["wanted"] == pytest.approx([2 / pixel] * 2, rel=0.02)
    assert row["side"] == 256 and row["fit"] == 0 and row["estimated"] is False
    assert row["seen_pixels"] == pytest.approx((2 / pixel) ** 2, rel=0.2)
    demanding = row["most_demanding"]
    assert (demanding["station"], demanding["object"]) == ("door", "wall") and demanding["distance"] == pytest.approx(
        4, rel=0.01
    )
    assert found["unseen"] == [] and found["residency"] == {}
    for name in ("door", "door-fit", "lane", "lane-fit"):
        with PillowImage.open(tmp_path / "shots" / f"{name}.png") as picture:
            assert picture.size == ((800, 450) if "door" in name else (1920, 1080))
            assert np.asarray(picture).std() > 1
    only = json.loads(run("sight", job, "--target", "lounge", "--as", "json", "--station", "lane"))
    assert only["textures"][0]["fit"] == 2 and [row["name"] for row in only["stations"]] == ["lane"]
    assert "there is no station 'roof'" in run("sight", job, "--target", "lounge", "--station", "roof", status=2)
    table = run("sight", job, "--target", "lounge")
    assert "wall_base.png" in table and "door, 4.0 away" in table
    run("station", job, "remove", "door")
    assert "door" not in run("station", job, "list")
    assert "no sightline 'door'" in run("station", job, "remove", "door", status=2)


@pytest.mark.slow
def test_rules_and_paths_and_bad_words(job):
    run("station", job, "add", "--nearest", "6", "--where", "path:wall*")
    run("station", job, "add", "--portrait", "30%")
    listed = run("station", job, "list")
    assert "nearest 1: 6 to path:wall*" in listed and "portrait 1: every model seen whole at most 30% high" in listed
    found = json.loads(run("sight", job, "--target", "lounge", "--as", "json"))
    assert found["textures"][0]["most_demanding"]["station"].startswith(("6 m from wall", "portrait"))
    run("station", job, "remove", "nearest 1")
    run("station", job, "remove", "portrait 1")
    assert "No sightlines" in run("station", job)
    for bad in (
        ("add", "x", "--eye", "0,0", "--target", "0,0,0"),
        ("add", "x", "--eye", "0,0,1", "--target", "0,0,1"),
        ("add", "x"),
        ("add", "--nearest", "3"),
        ("add", "--portrait", "big"),
        ("add", "x", "--eye", "0,0,1", "--target", "0,0,0", "--screen", "wide"),
    ):
        run("station", job, *bad, status=2)
    run("station", job, "add", "--nearest", "6", "--where", "nofield:1")
    assert "nofield" in run("sight", job, "--target", "lounge", status=2)


@pytest.mark.slow
def test_cameras_of_a_model_are_looked_from_and_a_path_is_walked(tmp_path):
    wall(tmp_path, camera=6.0)
    found = json.loads(run("sight", tmp_path, "--target", "pocket", "--as", "json"))
    assert [row["name"] for row in found["stations"]] == ["eye"] and found["stations"][0]["scene"] == "wall.glb"
    job = tmp_path / "b.oak"
    run("job", "new", tmp_path, "--out", job, "--target", "pocket")
    document = json.loads(job.read_text())
    stations = [
        {"name": name, "eye": [0, 0, z], "target": [0, 0, 0], "screen": [320, 180]} for name, z in (("a", 30), ("b", 3))
    ]
    document["sightlines"] = {
        "stations": stations,
        "paths": [{"name": "walk", "steps": [{"station": "a", "time": 0}, {"station": "b", "time": 5}]}],
    }
    job.write_text(json.dumps(document))
    found = json.loads(run("sight", job, "--target", "pocket", "--as", "json"))
    walk = found["residency"]["walk"]
    assert walk[0]["time"] == 0 and walk[-1]["time"] == 5
    assert walk[-1]["wanted"] > walk[0]["wanted"] and all(row["kept"] + row["blurred"] == row["wanted"] for row in walk)
    assert "Along walk" in run("sight", job, "--target", "pocket")


@pytest.mark.slow
def test_a_survey_asks_sightlines_and_goes_on_where_they_cannot_be_asked(tmp_path):
    root, job = tmp_path / "yard", tmp_path / "yard.oak"
    root.mkdir()
    wall(root, half=2.0, side=1024, repeats=1.0, camera=40.0)
    run("job", "new", root, "--out", job)
    run("station", job, "add", "far", "--eye", "0,0,40", "--target", "0,0,0")
    found = subprocess.run([COMMAND, "survey", str(job), "--as", "json"], capture_output=True, text=True, check=False)
    assert "levels-to-spare" in found.stdout and not found.stderr
    assert "as wanted" in run("role-rules", job, "--role", "base-colour", "--of", "wanted")
    row = json.loads(run("sight", job, "--target", "lounge", "--as", "json"))["textures"][0]
    # Lounge filters anisotropically: a level more than the side is kept.
    assert row["width"] == 1024 > max(row["ships"]) >= row["side"]
    run("role-rules", job, "--role", "base-colour", "--remove")
    document = json.loads(job.read_text())
    document["sightlines"]["nearest"] = [{"metres": 2, "where": "nofield:x"}]
    job.write_text(json.dumps(document))
    done = subprocess.run([COMMAND, "survey", str(job)], capture_output=True, text=True, check=False)
    assert "nothing is looked at from the sightlines" in done.stderr and "wall_base.png" in done.stdout
