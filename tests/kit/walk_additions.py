"""Walks the additions through survey, plan, ship, command line and window, in a process of its own; prints what it met as JSON."""

from __future__ import annotations

import json
import sys
from pathlib import Path


def walk(folder: Path) -> dict[str, object]:
    """Return what was met on the way."""
    from tests.kit import additions

    (folder / "targets").mkdir()
    additions.register_all(folder / "targets")
    from click.testing import CliRunner
    from PySide6.QtWidgets import QApplication

    from oaktrim.cli.main import commands
    from oaktrim.core.codecs.texture import decode_level
    from oaktrim.core.configure import configure
    from oaktrim.core.files.gltfwriter import GltfWriter
    from oaktrim.core.files.pictures import parse_texture
    from oaktrim.core.job.begin import with_begun
    from oaktrim.core.job.document import load_job, new_job, save_job
    from oaktrim.core.makers.registry import KINDS
    from oaktrim.core.plan.resolve import resolve
    from oaktrim.core.progress import finish
    from oaktrim.core.survey.cache import SurveyCache
    from oaktrim.core.survey.scan import scan
    from oaktrim.core.targets.target import target_named
    from oaktrim.desk.look.dress import dress_application
    from oaktrim.desk.session.session import Session
    from oaktrim.desk.shell.window import Window
    from tests.kit.models import add_mesh, material, scene
    from tests.kit.trees import put, write_model

    configure()
    root, out, met = folder / "art", folder / "out", {}
    put(root, "brick_base.png", size=(64, 64))
    put(root, "loose.png", size=(32, 64))
    writer = GltfWriter()
    brick = material(writer, "brick", baseColorTexture=writer.image("brick_base.png"))
    scene(writer, writer.add("nodes", name="wall", mesh=add_mesh(writer, brick)))
    write_model(root, "yard.glb", writer)
    kind = next(kind for kind in KINDS.values() if kind.tag == "twins")
    job = new_job(root)
    twins = kind.settings("", "brick_base.png", "yard.glb")
    named = type(twins)(job.names.name(twins, job.maker_context), twins.source, twins.model)
    before = resolve(finish(scan(root)), target_named("attic"))
    job = type(job)(**{**{f: getattr(job, f) for f in job.__struct_fields__}, "targets": ("attic",)})
    job = with_begun(job, named, [before])
    save_job(job, folder / "a.oak", root)
    met["kept"] = load_job(folder / "a.oak").makers == job.makers

    def run(*arguments: str) -> str:
        result = CliRunner().invoke(commands, list(arguments))
        assert result.exit_code in (0, 1), (arguments, result.output, result.exception)
        return result.output

    met["formats"] = run("formats", "--target", "attic")
    met["survey"] = json.loads(run("survey", str(folder / "a.oak"), "--as", "json"))
    met["ship"] = run("ship", str(folder / "a.oak"), "--target", "attic", "--out", str(out))
    met["files"] = sorted(str(path.relative_to(out)) for path in out.rglob("*") if path.is_file())
    mask = parse_texture((out / "brick_base_twins_mask.ktx2").read_bytes(), out)
    met["mask"] = [mask.format.name, mask.width, float(decode_level(mask).pixels.mean())]
    met["again"] = run("ship", str(folder / "a.oak"), "--target", "attic", "--out", str(out))
    met["show"] = run("job", "show", str(folder / "a.oak"))

    app = QApplication([])
    dress_application(app)
    window = Window(Session(cache=SurveyCache(folder / "cache")))
    window.show()
    window.session.open(folder / "a.oak")
    for _ in range(2000):
        app.processEvents()
        found = {finding.code for finding in window.session.findings()} if window.session.is_open else set()
        if "square" in found and window.session.inventory is not None and window.session.inventory.made:
            break
        app.thread().msleep(10)
    met["window"] = {
        "rulers": sorted(window.rules.rulers),
        "ledger": sorted(t.path for t in window.session.inventory.textures),
        "findings": sorted(found),
        "models": [model.path for model in window.session.inventory.models],
        "limits": sorted(window.survey.targets.fields),
    }
    document = window.session._document
    document._saved = document.history.job
    window.close()
    return met


if __name__ == "__main__":
    print(json.dumps(walk(Path(sys.argv[1]))))
