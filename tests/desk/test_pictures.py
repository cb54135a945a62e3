"""The pictures of the README can be taken, and an empty folder opens as it should."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image as PillowImage

ROOT = Path(__file__).parents[2]


# It ships the whole demonstration, which takes minutes where another test runs beside it.
@pytest.mark.slow
@pytest.mark.timeout(600)
def test_every_main_view_is_pictured(tmp_path, demo_job):
    # The script draws the demonstration where the cache is: lend it the one that is drawn already.
    cache = tmp_path / "cache"
    environment = {**os.environ, "XDG_CACHE_HOME": str(cache), "QT_QPA_PLATFORM": "offscreen"}
    code = "from oaktrim.demo.heronmere import demo_folder; print(demo_folder())"
    place = Path(
        subprocess.run(
            [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True
        ).stdout.strip()
    )
    place.parent.mkdir(parents=True)
    place.symlink_to(demo_job.parent, target_is_directory=True)
    taken = tmp_path / "pictures"
    subprocess.run([sys.executable, ROOT / "tools" / "screenshots.py", taken], env=environment, check=True, timeout=570)
    kept = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert {path.name for path in taken.glob("*.png")} == kept
    readme = (ROOT / "README.md").read_text()
    for path in taken.glob("*.png"):
        assert f"docs/screenshots/{path.name}" in readme
        with PillowImage.open(path) as picture:
            assert picture.size == (1280, 800)
            assert len(picture.convert("RGB").getcolors(1 << 20)) > 20


def test_an_empty_folder_opens(qtbot, window, tmp_path):
    (tmp_path / "nothing").mkdir()
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(tmp_path / "nothing")
    assert window.survey.model.rowCount() == 0
    assert "Nothing selected" in window.swatch.name.text()
    for place in range(len(window.benches)):
        window.show_bench(place)
    window.set_theme("dusk")
    assert not window.survey.cuts.cap.isEnabled()
