"""Target documents, and what targets make of sizes."""

import numpy as np
import pytest

from oaktrim.core.errors import DocumentError, Unsupported
from oaktrim.core.targets.footprint import apply_target_rules, fit_side, full_levels
from oaktrim.core.targets.target import load_target, parse_bytes, shipped_targets, target_named

GOOD = """version = 1
id = "attic"
name = "Attic"
about = "a test"
hardware = ["plain", "bc"]
[limits]
memory = "1.5 GiB"
package = "40 MB"
"""


def test_the_targets_that_ship():
    assert sorted(shipped_targets()) == ["lounge", "pocket", "visor"]
    for target in shipped_targets().values():
        assert {"memory", "package"} <= set(target.limit_bytes)
    with pytest.raises(Unsupported, match="known are lounge, pocket, visor"):
        target_named("attic")


def test_sizes_with_units(tmp_path):
    (tmp_path / "a.toml").write_text(GOOD)
    assert load_target(tmp_path / "a.toml").limit_bytes == {"memory": 3 << 29, "package": 40_000_000}
    for wrong in ("40", "MiB", "-1 MB", "4 mb", "1e9 B"):
        with pytest.raises(ValueError, match="a size is a number and one of"):
            parse_bytes(wrong)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('"1.5 GiB"', '"much"', r"a size is a number .* at `\$.limits`"),
        ('"bc"', '"steam"', r"Invalid enum value 'steam' - at `\$.hardware\[1\]`"),
        ('id = "attic"', 'idd = "attic"', "`id`|`idd`"),
        ("version = 1", "version = 3", "made by a newer Oak Trim"),
        ("[limits]", "[limits", "is not a valid target"),
        ('about = "a test"', 'about = "a test"\ncontainer = "zip"', "container is ktx2 or dds"),
    ],
)
def test_what_is_wrong_is_named(tmp_path, old, new, words):
    path = tmp_path / "a.toml"
    path.write_text(GOOD.replace(old, new))
    with pytest.raises(DocumentError, match=words) as caught:
        load_target(path)
    assert "a.toml" in str(caught.value)


def test_columns_are_weighed_like_single_ones():
    rng = np.random.default_rng(4)
    width, height = rng.integers(1, 9000, (2, 50))
    formats = rng.integers(0, 37, 50)
    for target in shipped_targets().values():
        whole = apply_target_rules(target, width, height, np.zeros(50, np.int64), formats)
        for row in range(50):
            one = apply_target_rules(
                target, *(c[row : row + 1] for c in (width, height)), np.zeros(1, np.int64), formats[row : row + 1]
            )
            assert (one.width[0], one.height[0], one.memory[0]) == (
                whole.width[row],
                whole.height[row],
                whole.memory[row],
            )


def test_sides_are_fitted_and_levels_counted():
    width, height = fit_side(np.array([4096, 10, 3]), np.array([1024, 5, 300]), np.array([512, 512, 100]))
    assert (width.tolist(), height.tolist()) == ([512, 10, 1], [128, 5, 100])
    sides = np.arange(1, 5000)
    assert (full_levels(sides, np.ones_like(sides)) == np.floor(np.log2(sides)) + 1).all()
