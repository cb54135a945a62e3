"""What is released: archives that build, a wheel that runs in an empty environment, a project to begin with, an image."""

import os
import shutil
import site
import subprocess
import sys
import tarfile
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
    for name in ("docs", "examples"):
        shutil.copytree(ROOT / name, source / name)
    for file in ROOT.iterdir():
        if file.is_file():
            shutil.copy(file, source / file.name)
    # As `make dist` does: a source archive, and from that a wheel.
    build = [sys.executable, "-m", "build", "--outdir", tmp_path / "dist", source]
    subprocess.run(build, check=True, capture_output=True, text=True)
    (wheel,) = (tmp_path / "dist").glob("*.whl")
    (archive,) = (tmp_path / "dist").glob("*.tar.gz")
    assert f"oak_trim-{__version__}-" in wheel.name and archive.name == f"oak_trim-{__version__}.tar.gz"
    with tarfile.open(archive) as packed:
        held = {name.partition("/")[2] for name in packed.getnames()}
    assert {"Containerfile", "constraints.txt", "examples/lantern/lantern.oak", "docs/ci/github.yml"} <= held
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


@pytest.mark.slow
def test_the_example_project_does_what_it_says(tmp_path):
    project = tmp_path / "lantern"
    shutil.copytree(ROOT / "examples" / "lantern", project)
    commands = [line.strip() for line in (project / "README.md").read_text().splitlines() if line.startswith("    ")]
    assert len(commands) > 5 and all(line.startswith("oak-trim ") for line in commands)
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    for command in commands:
        done = subprocess.run(
            ["bash", "-c", command],
            cwd=project,
            env={**os.environ, "PATH": path},
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, (command, done.stdout + done.stderr)
    names = {file.name for file in (project / "build").rglob("*") if file.is_file()}
    assert {"lantern_base.ktx2", "hum.ogg", "lantern.glb", "manifest.json"} <= names


@pytest.mark.slow
@pytest.mark.timeout(900)
def test_an_image_for_builds(tmp_path):
    """Where a builder is present."""
    builder = next((name for name in ("podman", "docker") if shutil.which(name)), None)
    if builder is None or subprocess.run([builder, "info"], capture_output=True, check=False).returncode:
        pytest.skip("nothing here builds images")
    build = [sys.executable, "-m", "build", "--wheel", "--outdir", tmp_path / "dist", ROOT]
    subprocess.run(build, check=True, capture_output=True, text=True)
    for name in ("Containerfile", "constraints.txt"):
        shutil.copy(ROOT / name, tmp_path / name)
    subprocess.run([builder, "build", "-f", "Containerfile", "-t", "oak-trim-test", "."], cwd=tmp_path, check=True)
    example = ROOT / "examples" / "lantern"
    done = subprocess.run(
        [builder, "run", "--rm", "-v", f"{example}:/work:ro", "oak-trim-test", "check", "lantern.oak"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0 and "Passes" in done.stdout, done.stdout + done.stderr
