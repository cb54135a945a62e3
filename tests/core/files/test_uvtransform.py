"""Moving what is read: the matrix, the extension's own words, and a picture that is really moved agree."""

from itertools import product
from math import cos, pi, sin

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.files.uvtransform import SAME_UV, UvTransform

PART = st.floats(-2, 2).map(lambda value: round(value, 3))
SCALE = st.sampled_from([0.25, 0.5, 1.0, -0.5, -1.0])
TRANSFORMS = st.builds(UvTransform, st.tuples(SCALE, SCALE), st.booleans(), st.tuples(PART, PART), st.booleans())
UVS = np.array([[0, 0, 1], [1, 0, 1], [0, 1, 1], [0.3, 0.8, 1], [-1.2, 2.5, 1]]).T


def extension_matrix(words: dict) -> np.ndarray:
    """Return the matrix of KHR_texture_transform as its text has it: translation * rotation * scale, on columns u, v, 1."""
    (u, v), (x, y) = words.get("offset", [0, 0]), words.get("scale", [1, 1])
    turn = words.get("rotation", 0)
    translation = np.array([[1, 0, u], [0, 1, v], [0, 0, 1]])
    rotation = np.array([[cos(turn), sin(turn), 0], [-sin(turn), cos(turn), 0], [0, 0, 1]])
    return translation @ rotation @ np.diag([x, y, 1])


@given(TRANSFORMS)
def test_it_is_what_the_extension_says(transform):
    words = transform.after({})
    assert words is not None
    np.testing.assert_allclose(extension_matrix(words), transform.matrix(), atol=1e-12)


@given(
    TRANSFORMS,
    st.tuples(PART, PART),
    st.sampled_from([0.5, 1.0, -1.0]),
    st.floats(-3, 3).map(lambda turn: round(turn, 2)),
)
def test_another_transform_is_done_first(transform, offset, scale, rotation):
    there = {"offset": list(offset), "scale": [scale, scale], "rotation": rotation, "texCoord": 1}
    both = transform.after(there)
    uneven = abs(transform.scale[0]) != abs(transform.scale[1])
    if rotation and uneven:
        assert both is None, "a shear cannot be written"
        return
    assert both["texCoord"] == 1, "what else stands there stays"
    wanted = transform.matrix() @ extension_matrix(there) @ UVS
    np.testing.assert_allclose(extension_matrix(both) @ UVS, wanted, atol=1e-9)


@given(TRANSFORMS)
def test_only_the_one_that_does_nothing_is_the_identity(transform):
    does_nothing = np.allclose(transform.matrix(), np.eye(3)) and not transform.clamped
    assert transform.is_identity == does_nothing == (transform == SAME_UV)


def read_at(picture: np.ndarray, uv: np.ndarray) -> np.ndarray:
    """Return the nearest texels at UVs (2, N), repeated, V from the top."""
    height, width = picture.shape[:2]
    return picture[np.floor(uv[1] * height).astype(int) % height, np.floor(uv[0] * width).astype(int) % width]


@pytest.mark.parametrize(("across", "down", "quarter"), list(product([False, True], [False, True], [False, True])))
def test_a_picture_moved_the_other_way_shows_the_same(across, down, quarter):
    """What a model saw of one picture it sees of its mirrored and turned copy, through the transform."""
    rng = np.random.default_rng(7)
    picture = rng.integers(0, 256, (16, 16))
    scale = (-1.0 if across else 1.0, -1.0 if down else 1.0)
    plain = UvTransform(scale, quarter)
    # The offset that brings the unit square onto itself again.
    corners = plain.matrix() @ np.array([[0, 1, 0, 1], [0, 0, 1, 1], [1, 1, 1, 1]])
    offset = tuple(float(-corners[axis].min()) for axis in (0, 1))
    transform = UvTransform(scale, quarter, offset)
    middle = (np.arange(16) + 0.5) / 16
    u, v = np.meshgrid(middle, middle)
    uv = np.stack([u.ravel(), v.ravel(), np.ones(256)])
    # The copy, made texel by texel: at the place that the transform reads, the texel that was seen before.
    there = transform.matrix() @ uv
    copy = np.zeros_like(picture)
    copy[np.floor(there[1] * 16).astype(int) % 16, np.floor(there[0] * 16).astype(int) % 16] = read_at(
        picture, uv
    ).reshape(-1)
    assert (read_at(copy, there[:2]) == read_at(picture, uv)).all()
    turned = copy.T if quarter else copy
    flips = [np.flip(turned, axes) for axes in ((), (0,), (1,), (0, 1))]
    assert any((flip == picture).all() for flip in flips), "it is the picture, mirrored or turned, and nothing else"


def test_a_quarter_turns_as_the_extension_counts():
    assert UvTransform(turned=True).after({}) == {"scale": [1.0, 1.0], "offset": [0.0, 0.0], "rotation": pi / 2}
    np.testing.assert_allclose(UvTransform(turned=True).matrix() @ [0.25, 0.5, 1], [0.5, -0.25, 1])
