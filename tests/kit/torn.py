"""Model files that were damaged: bytes changed, cut and doubled, and values of the JSON swapped for others."""

import copy
import random

import msgspec

from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.references import ReferenceFolder

_OBJ = b"mtllib a.mtl\no x\nv 0 0 0\nv 1 0 0\nv 1 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nusemtl a\nf 1/1 2/2 3/3\nf -1 -2 -3\n"
_STRANGE = (None, -1, 0, 1, 7, 2**31, 2**63, 10**30, 1e300, -0.5, "", "x", "../x", [], {}, [0, 0], True)


def torn(rng: random.Random, sound_glb: bytes) -> bytes:
    """Return a damaged file, made of a GLB or of an OBJ."""
    if rng.random() < 0.5:
        raw = msgspec.json.decode(sound_glb[20 : 20 + int.from_bytes(sound_glb[12:16], "little")])
        for _ in range(rng.randint(1, 3)):
            row = raw
            while True:
                keys = list(row) if isinstance(row, dict) else list(range(len(row)))
                if not keys:
                    break
                key = rng.choice(keys)
                if not isinstance(row[key], dict | list) or rng.random() < 0.15:
                    row[key] = copy.deepcopy(rng.choice(_STRANGE))
                    break
                row = row[key]
        document = parse_gltf(sound_glb, ReferenceFolder(".", "boat.glb"))
        document.raw.clear()
        document.raw.update(raw)
        return document.pack()
    sound = bytearray(_OBJ if rng.random() < 0.4 else sound_glb)
    for _ in range(rng.randint(1, 8)):
        at = rng.randrange(len(sound))
        sound[at : at + rng.choice((0, 1, 1, 4))] = bytes(rng.randrange(256) for _ in range(rng.choice((0, 1, 1, 4))))
    return bytes(sound[: rng.randrange(len(sound))] if rng.random() < 0.2 else sound)
