"""The glTF validator of the format's working group, and one of SARIF, where Node is present."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

MODULES = Path(sys.prefix) / "node" / "node_modules"
_SARIF = MODULES / ".bin" / "sarif-multitool-linux"
_SCRIPT = """
const validator = require('gltf-validator'), fs = require('fs'), path = require('path'), file = process.argv[1];
const beside = uri => new Promise((give, fail) => fs.readFile(path.resolve(path.dirname(file), decodeURIComponent(uri)),
  (error, data) => error ? fail(error.toString()) : give(new Uint8Array(data))));
validator.validateBytes(new Uint8Array(fs.readFileSync(file)), {uri: path.basename(file), externalResourceFunction: beside})
  .then(report => console.log(JSON.stringify(report)), error => console.log(JSON.stringify({failed: String(error)})));
"""


def is_there() -> bool:
    """Say whether models can be judged here."""
    return shutil.which("node") is not None and (MODULES / "gltf-validator").is_dir()


def report(path: Path) -> dict:
    """Return the validator's report on a file."""
    done = subprocess.run(
        ["node", "-e", _SCRIPT, str(path)],
        capture_output=True,
        text=True,
        check=True,
        env={"NODE_PATH": str(MODULES), "PATH": "/usr/bin:/bin"},
    )
    return json.loads(done.stdout)


def errors(path: Path) -> list[str]:
    """Return the codes and messages of all errors in a file."""
    found = report(path)
    assert "failed" not in found, found
    return [f"{row['code']}: {row['message']}" for row in found["issues"]["messages"] if row["severity"] == 0]


def judges_sarif() -> bool:
    """Say whether SARIF can be judged here."""
    return shutil.which("node") is not None and _SARIF.exists()


def sarif_faults(path: Path) -> list[str]:
    """Return the errors and warnings on a SARIF file."""
    done = subprocess.run([_SARIF, "validate", str(path)], capture_output=True, text=True, check=False)
    assert "Analysis completed successfully" in done.stdout, done.stdout + done.stderr
    return [line for line in done.stdout.splitlines() if ": error" in line or ": warning" in line]
