"""The loader of a web engine, where Node is present: what it makes of KTX 2.0 files with universal textures."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

from tests.kit.validator import MODULES

_FOLDER = MODULES / "three/examples/jsm/libs/basis"
# Numbers that it gives to what it makes.
ASKED = {"etc2-rgb": 0, "etc2-rgba": 1, "bc7": 6, "astc-4x4": 10, "rgba8": 13}
_SCRIPT = """
const fs = require('fs'), path = require('path'), [folder, file, format, out] = process.argv.slice(1);
const program = fs.readFileSync(path.join(folder, 'basis_transcoder.js'), 'utf8');
const make = new Function('require', '__filename', '__dirname', 'process', program + ';return BASIS;');
make(require, '', folder, process)({wasmBinary: fs.readFileSync(path.join(folder, 'basis_transcoder.wasm'))}).then(m => {
  m.initializeBasis();
  const texture = new m.KTX2File(new Uint8Array(fs.readFileSync(file))), levels = [];
  if (!texture.isValid() || !texture.startTranscoding()) throw new Error('not a texture');
  for (let level = 0; level < texture.getLevels(); level++) {
    const made = new Uint8Array(texture.getImageTranscodedSizeInBytes(level, 0, 0, +format));
    if (!texture.transcodeImage(made, level, 0, 0, +format, 0, -1, -1)) throw new Error('not transcoded');
    levels.push(Buffer.from(made).toString('base64'));
  }
  fs.writeFileSync(out, JSON.stringify({width: texture.getWidth(), height: texture.getHeight(),
    alpha: !!texture.getHasAlpha(), levels}));
}).catch(error => { console.error(error); process.exit(1); });
"""


def is_there() -> bool:
    """Say whether it can be asked here."""
    return shutil.which("node") is not None and _FOLDER.is_dir()


def loaded(data: bytes, name: str, folder: Path) -> dict:
    """Return what it makes of a file's bytes in a format of `ASKED`: width, height, alpha, and levels in base 64."""
    file, out = folder / "asked.ktx2", folder / "made.json"
    file.write_bytes(data)
    command = ["node", "-e", _SCRIPT, str(_FOLDER), str(file), str(ASKED[name]), str(out)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return json.loads(out.read_text())
