"""What every test starts from: a cache and settings of its own, the driver, and the demonstration made once."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from oaktrim.core.configure import configure
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.demo.heronmere import make_demo
from tests.kit.driver import Driver

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="oak-trim-tests-")
configure()

# A busy machine is no fault of the code; a build machine looks at the same cases each time.
settings.register_profile(
    "house", deadline=None, suppress_health_check=[HealthCheck.too_slow], derandomize=bool(os.environ.get("CI"))
)
settings.load_profile("house")


@pytest.fixture(autouse=True)
def own_folders(tmp_path, monkeypatch):
    """No test reads or writes the user's cache or settings."""
    for name in ("CACHE", "CONFIG", "DATA"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / f".{name.lower()}"))


@pytest.fixture
def cache(tmp_path) -> SurveyCache:
    return SurveyCache(tmp_path)


@pytest.fixture(scope="session")
def driver() -> Driver:
    return Driver()


@pytest.fixture(scope="session")
def demo_job(tmp_path_factory) -> Path:
    """The demonstration's job, made once for all workers of a run."""
    base = tmp_path_factory.getbasetemp()
    shared = base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base
    return finish(make_demo(shared / "heronmere"))
