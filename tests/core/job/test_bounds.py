"""Values of jobs and targets that lie outside of all reason: refused on loading, with the file, the field and the range."""

import json
import re
from pathlib import Path

import msgspec
import pytest

from oaktrim.core.errors import DocumentError
from oaktrim.core.job.document import load_job, new_job, save_job
from oaktrim.core.targets.target import load_target, save_target, target_named

PATCH = {"kind": "patch", "name": "a", "source": "b.png", "rect": {"x": 0, "y": 0, "width": 4, "height": 4}}


def rect(**changed):
    return [{**PATCH, "rect": {**PATCH["rect"], **changed}}]


@pytest.mark.parametrize(
    ("field", "value", "words"),
    [
        ("version", 0, ">= 1 - at `$.version`"),
        ("version", -1, ">= 1 - at `$.version`"),
        ("name", "a\0b", "without control characters - at `$.name`"),
        ("name", "a" * 201, "<= 200 - at `$.name`"),
        ("root", "a\0b", "without NUL - at `$.root`"),
        ("max_pixels", 0, ">= 1 - at `$.max_pixels`"),
        ("max_pixels", 10**40, "- at `$.max_pixels`"),
        ("ignore", ["*.tmp", "!"], "ignore[1]: '!'"),
        ("ignore", ["[z-a]"], "ignore[0]: '[z-a]'"),
        ("makers", rect(x=2**31), "<= 65536 - at `$.makers[0].rect.x`"),
        ("makers", rect(y=-(2**31)), ">= -65536 - at `$.makers[0].rect.y`"),
        ("makers", rect(width=2**63), "<= 65536 - at `$.makers[0].rect.width`"),
        ("makers", rect(height=0), ">= 1 - at `$.makers[0].rect.height`"),
        ("makers", [{**PATCH, "background": [1, 2, 3, 4, 5, 6]}], "length <= 4 - at `$.makers[0].background`"),
        ("makers", [{**PATCH, "background": [1e300]}], "<= 65536.0 - at `$.makers[0].background[0]`"),
        ("makers", [{**PATCH, "tolerance": -1}], ">= 0 - at `$.makers[0].tolerance`"),
        ("makers", [{**PATCH, "name": "x" * 300}], "1 to 200 characters, none of them a control character - at"),
        ("makers", [{**PATCH, "name": "a\0"}], "- at `$.makers[0].name`"),
        ("cuts", [{"change": {"kind": "cap", "side": 4}, "assets": ["a\0"]}], "- at `$.cuts[0].assets[0]`"),
    ],
)
def test_of_a_job(tmp_path, field, value, words):
    path = tmp_path / "a.oak"
    save_job(new_job(tmp_path), path, tmp_path)
    path.write_text(json.dumps({**json.loads(path.read_text()), field: value}))
    with pytest.raises(DocumentError, match=re.escape(words)) as caught:
        load_job(path)
    assert str(caught.value).startswith(f"{path}: ")


@pytest.mark.parametrize(
    ("field", "value", "words"),
    [
        ("memory", "9" * 400 + " GiB", "memory: a size is at most 1024 TiB"),
        ("package", "-3 MiB", "package: a size is a number"),
        ("longest_side", 0, ">= 1 - at `$.limits.longest_side`"),
        ("longest_side", -5, ">= 1 - at `$.limits.longest_side`"),
        ("longest_side", 1 << 17, "<= 65536 - at `$.limits.longest_side`"),
        ("materials", -1, ">= 0 - at `$.limits.materials`"),
        ("triangles", 2**60, "- at `$.limits.triangles`"),
        ("draws", 1.5, "- at `$.limits.draws`"),
    ],
)
def test_of_a_targets_limits(tmp_path, field, value, words):
    path = tmp_path / "a.toml"
    save_target(target_named("pocket"), path)
    document = msgspec.toml.decode(path.read_bytes())
    document["limits"][field] = value
    path.write_bytes(msgspec.toml.encode(document))
    with pytest.raises(DocumentError, match=re.escape(words)) as caught:
        load_target(path)
    assert str(caught.value).startswith(f"{path}: ")


@pytest.mark.parametrize("data", [b"version = 0", b"version = nan", b"[" * 5000, b"\xff", b"limits = 3"])
def test_what_is_no_target_is_refused(tmp_path, data):
    path = tmp_path / "a.toml"
    path.write_bytes(data)
    with pytest.raises(DocumentError, match=r"a\.toml"):
        load_target(path)


def test_a_job_that_could_not_be_read_again_is_not_written(tmp_path):
    path, job = tmp_path / "a.oak", new_job(tmp_path)
    save_job(job, path, tmp_path)
    before = path.read_bytes()
    with pytest.raises(DocumentError, match=r"not written.*at `\$\.name`"):
        save_job(msgspec.structs.replace(job, name="a\0b"), path, tmp_path)
    assert path.read_bytes() == before


def test_devices_are_never_read():
    with pytest.raises(DocumentError, match="/dev/zero: is not a regular file"):
        load_job(Path("/dev/zero"))
