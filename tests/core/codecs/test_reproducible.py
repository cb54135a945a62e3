"""Bytes of a texture depend on its pixels and settings alone: not on what a process has done before, nor on its threads."""

import hashlib
import json
import os
import subprocess
import sys

import pytest

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.progress import THREADS

# One process: formats and efforts in the order that it is told, each hashed.
CODE = """
import hashlib, json, sys
from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import encode_level, decode_level, encode_texture
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.progress import finish
from tests.kit.pictures import busy
image = busy(96, 80, 4, seed=5)
found = {}
for name, effort in json.loads(sys.argv[1]):
    made = finish(encode_texture(build_mip_chain(image), format_named(name), EncodeOptions(effort=Effort(effort))))
    found[f"{name} {effort}"] = hashlib.blake2b(b"".join(made.levels)).hexdigest()
    decode_level(made)
print(json.dumps(found))
"""
NAMES = (
    "bc1",
    "bc3",
    "bc4",
    "bc5",
    "bc7",
    "etc2-rgb",
    "etc2-rgba",
    "eac-r11",
    "astc-4x4",
    "astc-6x6",
    "rgb565",
    "rgba8",
)
ORDERS = [(name, effort.value) for name in NAMES for effort in (Effort.DRAFT, Effort.STANDARD)]


def hashes(order, **environment) -> dict[str, str]:
    """Return the hash of each texture as a process of its own makes them."""
    done = subprocess.run(
        [sys.executable, "-c", CODE, json.dumps(order)], capture_output=True, text=True, check=True,
        env={**os.environ, **environment},
    )  # fmt: skip
    return json.loads(done.stdout)


@pytest.fixture(scope="module")
def forwards():
    return hashes(ORDERS)


def test_the_order_of_work_does_not_show(forwards):
    assert hashes(ORDERS[::-1]) == forwards


def test_one_alone_is_as_among_others(forwards):
    for pair in (("bc7", "standard"), ("astc-6x6", "standard"), ("etc2-rgba", "standard")):
        alone = hashes([pair])
        assert alone.items() <= forwards.items(), pair


@pytest.mark.parametrize("threads", ["1", "2", "5"])
def test_the_number_of_threads_does_not_show(forwards, threads):
    assert hashes(ORDERS[:: len(ORDERS) // 8], **{THREADS: threads}).items() <= forwards.items()


def test_the_hashes_tell_textures_apart(forwards):
    assert len(set(forwards.values())) >= len(forwards) - len(NAMES), "efforts may agree, formats do not"
    assert len(next(iter(forwards.values()))) == 2 * hashlib.blake2b().digest_size
