"""The filter syntax, on a small job in which every answer is known."""

import numpy as np
import pytest
import soundfile

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.cuts import Cap, Cut
from oaktrim.core.plan.query import FIELDS, FLAGS, Assets, completions, parse, select
from oaktrim.core.plan.syntax import QueryError
from oaktrim.core.plan.verdict import findings_of
from tests.kit.models import add_mesh, material, scene
from tests.kit.trees import planned, put, write_model


@pytest.fixture
def assets(tmp_path):
    put(tmp_path, "boat/oak base.png", size=(256, 256))
    put(tmp_path, "boat/oak_n.png", size=(256, 128))
    put(tmp_path, "old/rope_mask.png", size=(100, 64), channels=1)
    soundfile.write(tmp_path / "gull.wav", np.sin(np.arange(800) * 2.7) / 2, 8000)
    writer = GltfWriter()
    images = writer.image("boat/oak%20base.png"), writer.image("boat/oak_n.png")
    for name in ("planks", "mast"):
        mesh = add_mesh(writer, material(writer, name, baseColorTexture=images[0]))
        writer.add("nodes", name="hull" if name == "planks" else "pole", mesh=mesh)
    writer.json["materials"][0]["normalTexture"] = {"index": images[1]}
    scene(writer, 0, 1)
    write_model(tmp_path, "boat.glb", writer)
    cut = planned(tmp_path, "pocket", Cut(Cap(64), ("boat/oak base.png",)))
    return Assets(planned(tmp_path, "pocket"), cut, findings_of(cut))


CASES = {
    "": ["oak base.png", "oak_n.png", "rope_mask.png", "boat.glb", "gull.wav"],
    "oak": ["oak base.png", "oak_n.png"],
    "OAK -path:base": ["oak_n.png"],
    '"oak base"': ["oak base.png"],
    "role:normal,mask": ["oak_n.png", "rope_mask.png"],
    "side>=256 height<200": ["oak_n.png"],
    "side:100": ["rope_mask.png"],
    "memory>100KiB": ["oak_n.png"],
    "saves>1.5kB": ["oak base.png"],
    "name:oak*png": ["oak base.png", "oak_n.png"],
    "folder:old": ["rope_mask.png"],
    "family:audio": ["gull.wav"],
    "kind:sound role:effect rate:8000": ["gull.wav"],
    "kind:mesh or seconds<1 resident>1kB": ["boat.glb", "gull.wav"],
    "family=meshes": ["boat.glb"],
    "is:unused": ["rope_mask.png"],
    "kind:png channels:1": ["rope_mask.png"],
    "material:planks": ["oak base.png", "oak_n.png"],
    "material=mast": ["oak base.png"],
    "object:pole": ["oak base.png"],
    "model:boat.glb users>1": ["oak base.png"],
    "is:shared": ["oak base.png"],
    "is:texture is:unused": ["rope_mask.png"],
    "is:cut": ["oak base.png"],
    "finding:not-power-of-two": ["rope_mask.png"],
    "findings>0 -is:texture": [],
    "format:rgba8 is:cut": ["oak base.png"],
    "known:stated": ["oak base.png", "oak_n.png"],
    "role:mask or name:gull*": ["rope_mask.png", "gull.wav"],
    "is:texture -(role:normal or side:100)": ["oak base.png"],
    "(role:normal or role:mask) height<100": ["rope_mask.png"],
    'name~"^oak[ _][a-z]+"': ["oak base.png", "oak_n.png"],
    "name!=gull.wav -is:texture": ["boat.glb"],
    "width!=height is:texture": ["oak_n.png", "rope_mask.png"],
    "is:texture width>height": ["oak_n.png", "rope_mask.png"],
    "is:texture is:power-of-two": ["oak base.png", "oak_n.png"],
    "is:texture multiple!=8": ["rope_mask.png"],
    "is:texture multiple:4": ["oak base.png", "oak_n.png", "rope_mask.png"],
    "ratio:2": ["oak_n.png"],
    "role:base-colour has:normal": ["oak base.png"],
    "is:texture -has:normal": ["oak_n.png", "rope_mask.png"],
    "pixels:grey": ["rope_mask.png"],
    "alpha:none transfer:linear": ["oak_n.png", "rope_mask.png"],
    '"or" or name:gull*': ["gull.wav"],
}


@pytest.mark.parametrize("text", CASES)
def test_what_a_filter_keeps(assets, text):
    kept = select(text, assets)
    assert [path.rsplit("/", 1)[-1] for path, keep in zip(assets.paths, kept, strict=True) if keep] == CASES[text]


def test_every_field_and_flag_answers(assets):
    for name in (*(f"{field}:1" for field in FIELDS if field != "is"), *(f"is:{flag}" for flag in FLAGS)):
        assert len(select(name, assets)) == 5


@pytest.mark.parametrize(("text", "words", "at"), [
    ("sise>3", "no field 'sise'", 0),
    ("a side>", "needs a value", 7),
    ("side>x", "compared with a number, not 'x'", 5),
    ("memory>3XB", "a size such as 1MiB", 7),
    ("role>normal", "write role:normal", 5),
    ('path:"a b', "a quote is not closed", 5),
    ("is:odd", "nothing is 'odd'", 3),
    ("a or", "nothing is after it", 4),
    ("or a", "nothing is before it", 0),
    ("(a or b", r"a \( is not closed", 0),
    ("a)", r"a \) without its \(", 1),
    ('name~"[a"', "no regular expression", 6),
    ("side~4", "side is a number", 5),
    ("multiple:x", "a whole number", 9),
])  # fmt: skip
def test_what_cannot_be_understood_is_said(assets, text, words, at):
    with pytest.raises(QueryError, match=words) as caught:
        select(text, assets)
    assert caught.value.at == at


def test_completion():
    assert completions("si", 2) == (0, ["side>"])
    assert completions("oak role:no", 11) == (4, ["role:normal"])
    assert completions("-role:normal,ma", 15) == (1, ["role:normal,mask"])
    assert completions("family:sur", 10) == (0, ['family:"surface values"'])
    assert completions("oak ", 4) == (4, [])
    assert [term.value for term in parse('family:"surface values" x').parts] == ["surface values", "x"]
