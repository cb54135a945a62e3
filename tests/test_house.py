"""The floors of the house hold, and the contracts notice when one is broken."""

import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
LINT = Path(sys.executable).parent / "lint-imports"

PLANTED = {
    "core/pixels/image.py": "from oaktrim.core.files import ktx2\n",
    "core/plan/cuts.py": "def late():\n    from PySide6 import QtCore\n    return QtCore\n",
    "desk/session.py": "from oaktrim.desk.shell import window\n",
    "core/strange.py": "x = 1\n",
}


@pytest.mark.parametrize("where", PLANTED)
def test_a_planted_violation_is_caught(tmp_path, where):
    copied = tmp_path / "src"
    subprocess.run(["cp", "-r", ROOT / "src", copied], check=True)
    (tmp_path / "pyproject.toml").write_text((ROOT / "pyproject.toml").read_text())

    def contracts():
        return subprocess.run(
            [LINT, "--no-cache"], cwd=tmp_path, env={"PYTHONPATH": str(copied), "PATH": "/usr/bin:/bin", "HOME": str(tmp_path)},
            capture_output=True, text=True, check=False,
        )  # fmt: skip

    if where == next(iter(PLANTED)):
        assert contracts().returncode == 0, contracts().stdout
    file = copied / "oaktrim" / where
    file.write_text((file.read_text() if file.exists() else "") + "\n" + PLANTED[where])
    done = contracts()
    assert done.returncode != 0
    assert "broken" in done.stdout.lower() or "strange" in done.stdout + done.stderr


def test_core_is_imported_without_an_interface():
    code = "import sys, oaktrim.core.ship.run, oaktrim.core.warm, oaktrim.cli.main; print('PySide6' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False"
