"""The wheel: it builds, installs into an empty environment, and runs the example there with all the data it needs."""

import os
import shutil
import site
import subprocess
import sys
import venv
from pathlib import Path

import pytest

import oaktrim.core
from oaktrim import __version__
from oaktrim.demo.heronmere import demo_folder

ROOT = Path(__file__).parents[1]


@pytest.mark.slow
@pytest.mark.timeout(900)
def test_it_installs_into_an_empty_environment_and_runs_the_example(tmp_path, demo_job, monkeypatch):
    source = tmp_path / "source"
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for name in ("pyproject.toml", "README.md"):
        shutil.copy(ROOT / name, source / name)
    build = [sys.executable, "-m", "pip", "wheel", "--quiet", "--disable-pip-version-check", "--no-deps"]
    subprocess.run([*build, "--wheel-dir", tmp_path, source], check=True, capture_output=True, text=True)
    (wheel,) = tmp_path.glob("*.whl")
    assert __version__ in wheel.name
    venv.create(tmp_path / "empty", with_pip=True)
    python = tmp_path / "empty" / "bin" / "python"
    subprocess.run([python, "-m", "pip", "install", "--quiet", "--no-deps", wheel], check=True, capture_output=True)
    (packages,) = (tmp_path / "empty" / "lib").glob("python*/site-packages")
    # The libraries that it asks for are those of this environment; its own package must come from the wheel.
    (packages / "libraries.pth").write_text("\n".join(site.getsitepackages()) + "\n")
    assert (packages / "oaktrim" / "py.typed").exists()
    # Kernels are known by what they are made of, not by where they lie.
    kept = Path(oaktrim.core.__file__).parent / "__pycache__" / "kernels"
    if kept.exists():
        shutil.copytree(kept, packages / "oaktrim" / "core" / "__pycache__" / "kernels")
    there = {**os.environ, "XDG_CACHE_HOME": str(tmp_path / "kept")}
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "kept"))
    shutil.copytree(demo_job.parent, demo_folder())

    def run(*arguments):
        program = tmp_path / "empty" / "bin" / "oak-trim"
        done = subprocess.run(
            [program, *arguments], cwd=tmp_path, env=there, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    where = subprocess.run(
        [python, "-c", "import oaktrim; print(oaktrim.__file__)"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=True,
    )
    assert where.stdout.startswith(str(packages))
    assert __version__ in run("--version")
    assert "Pocket" in run("targets")
    said = run("example")
    for name in ("Pocket", "Visor avatar", "Lounge"):
        assert f"Shipped for {name}: " in said
