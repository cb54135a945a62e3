"""Sounds, clips, models and their parts in the window: cut, ruled, proven and left out as a person does it."""

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.modelcuts import DropUnused, LeaveOut, ReduceMotion
from oaktrim.core.plan.modelsizes import trimmed_source
from oaktrim.core.plan.soundcuts import SetCodec, SetMono, SetRate, TrimSilence
from oaktrim.core.sounds.codecs import SoundCodec
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.soundroles import SoundRole
from oaktrim.core.trim.motion import MotionBound
from oaktrim.core.trim.settings import ModelSettings
from oaktrim.core.units import bytes_text
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.wavestrip import WaveStrip
from tests.core.plan.test_soundrules import put_sound
from tests.core.trim.test_model import snake
from tests.desk.test_widgets import columns_of, grabbed, shown
from tests.kit.models import add_mesh, material
from tests.kit.trees import put, write_model

WAIT = 30000


@pytest.fixture
def build(qtbot, window, art):
    """The window on a tree with two sounds and a snake that wears a coat."""
    tone = np.concatenate([np.zeros(24_000), np.sin(np.arange(48_000) * 0.1) * 0.5, np.zeros(24_000)])
    (art / "voice").mkdir()
    soundfile.write(art / "voice/hello.wav", np.repeat(tone[:, None], 2, axis=1), 48_000)
    put_sound(art, "door.wav", seconds=2)
    writer = snake()
    coat = material(writer, "coat", baseColorTexture=writer.image("coat_base.png"))
    writer.json["scenes"][0]["nodes"].append(writer.add("nodes", name="coat", mesh=add_mesh(writer, coat)))
    write_model(art, "snake.glb", writer)
    put(art, "wood_base.png")
    put(art, "coat_base.png", size=(128, 128))
    with qtbot.waitSignal(window.session.opened, timeout=WAIT):
        window.session.open(art)
    with qtbot.waitSignal(window.session.findings_changed, timeout=WAIT):
        window.session.watch("lounge")
    return window


def pick(window, *paths):
    places = {window.session.asset_path(asset): asset for asset in range(window.session.asset_count)}
    window.session.select(tuple(places[path] for path in paths))


def choose(qtbot, box, words):
    """Choose an entry of a box by its first letters, with the keyboard."""
    box.setFocus()
    place = next(n for n in range(box.count()) if box.itemText(n) == words)
    while box.currentIndex() != place:
        before = box.currentIndex()
        qtbot.keyClick(box, Qt.Key.Key_Down if before < place else Qt.Key.Key_Up)
        assert box.currentIndex() != before


def test_a_sound_is_cut_from_its_bar_and_taken_back(qtbot, build):
    session, survey = build.session, build.survey
    pick(build, "voice/hello.wav")
    bar = survey.sound_cuts
    assert bar.isVisible() and not survey.cuts.isVisible() and bar.who.text() == "Cut 1 sound"
    before = session.plan().total("package")
    choose(qtbot, bar.boxes[SetRate], "22.05 kHz")
    choose(qtbot, bar.boxes[SetCodec], "Vorbis 0.3")
    recipe = session.plan().others.recipes["voice/hello.wav"]
    assert (recipe.rate, recipe.settings.codec) == (22_050, SoundCodec.VORBIS)
    assert session.plan().total("package") < before and {cut.targets for cut in session.job.cuts} == {("lounge",)}
    words = build.swatch._everywhere.text()
    assert "ships as Vorbis 0.3, 22.05 kHz stereo" in words and "decoded" in words and build.swatch.wave.isVisible()
    pick(build, "voice/hello.wav", "door.wav")
    assert bar.boxes[SetRate].currentIndex() == -1 and bar.who.text() == "Cut 2 sounds"
    bar.scope.setCurrentIndex(1)
    choose(qtbot, bar.boxes[SetMono], "mono")
    assert session.job.cuts[-1].targets == () and session.job.cuts[-1].subject == "2 sounds"
    bar.scope.setCurrentIndex(0)
    pick(build, "voice/hello.wav")
    choose(qtbot, bar.boxes[SetRate], "as is")
    assert session.change_on("voice/hello.wav", SetRate) is None
    pick(build, "wood_base.png")
    assert survey.cuts.isVisible() and not bar.isVisible()


def test_models_and_clips_have_a_bar_of_their_own(qtbot, build):
    session, bar = build.session, build.survey.model_cuts
    pick(build, "snake.glb")
    assert bar.isVisible() and bar.boxes[DropUnused].isEnabled() and not bar.boxes[ReduceMotion].isEnabled()
    choose(qtbot, bar.boxes[DropUnused], "left out")
    pick(build, "snake.glb#animations/0")
    choose(qtbot, bar.boxes[ReduceMotion], "within 1 mm")
    settings = session.plan().others.models.settings["snake.glb"]
    assert settings.unused and len(settings.motion) == 1
    qtbot.waitUntil(lambda: not session.plan().others.guessed or session.weigher is None, timeout=WAIT)
    assert "keys within 1 mm" in build.swatch._everywhere.text()


def test_a_finding_on_a_sound_is_fixed_with_a_click(qtbot, build):
    survey, session = build.survey, build.session
    survey.show_pane(Pane.FINDINGS)
    for code, kind in (("stereo-is-mono", SetMono), ("long-silence", TrimSilence), ("rate-to-spare", SetRate)):
        survey.show_finding(code)
        with qtbot.waitSignal(session.findings_changed, timeout=WAIT):
            qtbot.mouseClick(survey.findings.fix, Qt.MouseButton.LeftButton)
        assert session.change_on("voice/hello.wav", kind) is not None
        assert not [f for f in session.findings() if f.code == code and f.path == "voice/hello.wav"]


def test_rules_of_sounds(qtbot, build):
    session, rules = build.session, build.survey.rules
    build.survey.show_pane(Pane.RULES)
    qtbot.mouseClick(rules.pages["Sounds"], Qt.MouseButton.LeftButton)
    boxes = rules.sounds.boxes
    choose(qtbot, boxes[SoundRole.SPEECH, SetCodec], "Vorbis 0.3")
    choose(qtbot, boxes[SoundRole.SPEECH, SetMono], "mono")
    (rule,) = session.job.sound_rules
    assert rule.changes == (SetCodec(SoundCodec.VORBIS, 0.3), SetMono(True))
    recipes = session.plan().others.recipes
    assert recipes["voice/hello.wav"].channels == 1 and recipes["door.wav"].settings is None
    assert rules.sounds._counts[SoundRole.SPEECH].text() == "1 of 1"
    choose(qtbot, boxes[SoundRole.SPEECH, SetCodec], "–")
    choose(qtbot, boxes[SoundRole.SPEECH, SetMono], "–")
    assert session.job.sound_rules == ()


def test_a_part_is_left_out_and_ships_again(qtbot, build):
    session, pane = build.session, build.survey.outfits
    build.survey.show_pane(Pane.OUTFITS)
    pane.pattern.setText("coat")
    qtbot.waitUntil(lambda: [row.name for row, _ in pane._rows] == ["coat"], timeout=WAIT)
    before = session.plan().total("memory")
    pane.table.selectRow(0)
    qtbot.mouseClick(pane.leave, Qt.MouseButton.LeftButton)
    assert session.job.cuts[-1].change == LeaveOut(True) and session.plan().total("memory") < before
    qtbot.waitUntil(lambda: pane.table.item(0, 9).text() == "left out", timeout=WAIT)
    assert session.plan("pocket").left_out.sum() == 0
    qtbot.waitUntil(pane.keep.isEnabled, timeout=WAIT)
    qtbot.mouseClick(pane.keep, Qt.MouseButton.LeftButton)
    assert session.plan().total("memory") == before


def test_a_sound_and_a_clip_are_proven(qtbot, build):
    session, proof = build.session, build.proof
    pick(build, "voice/hello.wav")
    session.cut(SetRate(8_000), everywhere=False, keep=True)
    build.swatch._proof.click()
    qtbot.waitUntil(lambda: proof.sound.view.proof is not None, timeout=WAIT)
    assert proof.sound.isVisible() and "segmental signal-to-noise ratio" in proof.sound.words.text()
    drawn = grabbed(proof.sound.view)
    assert len(columns_of(drawn, tokens().teal)) > 40
    pick(build, "snake.glb#animations/0")
    qtbot.waitUntil(lambda: proof.motion.view.proof is not None, timeout=WAIT)
    words = proof.motion.words.text()
    assert proof.motion.isVisible() and words.startswith("Not cut:") and "keys become" in words
    session.cut(ReduceMotion(5.0), everywhere=False, keep=True)
    qtbot.waitUntil(lambda: proof.motion.words.text()[:7] not in ("", "Not cut"), timeout=WAIT)
    assert proof.motion.view.proof.bound.millimetres == 5.0
    pick(build, "wood_base.png")
    assert proof.one.isVisible()


def test_an_envelope_is_drawn_to_scale(qtbot):
    strip = shown(qtbot, WaveStrip(), 200, 84)
    codes = bytes([255] * 50 + [0] * 50)
    strip.show_envelope(codes, (0.0, 0.75))
    drawn = grabbed(strip)
    loud, trimmed = columns_of(drawn, tokens().teal), columns_of(drawn[:30], tokens().line)
    assert loud.min() == pytest.approx(100, abs=1) and loud.max() == pytest.approx(149, abs=1)
    assert trimmed.min() == pytest.approx(150, abs=1)


def test_a_cut_on_a_part_is_edited_where_parts_are_listed(qtbot, build):
    session = build.session
    session.edit(session.job.with_cut(Cut(LeaveOut(), ("snake.glb#nodes/coat",), ("lounge",))), "left out")
    build.cuts.edit_wanted.emit(0)
    pane = build.survey.outfits
    assert pane.isVisible() and pane.pattern.text() == "coat"
    qtbot.waitUntil(lambda: [row.left for row, _ in pane._rows] == [True], timeout=WAIT)


def test_a_sound_is_played_where_the_machine_can(qtbot, build, tmp_path, monkeypatch):
    played = tmp_path / "played.wav"
    tool = tmp_path / "bin" / "aplay"
    tool.parent.mkdir()
    tool.write_text(f'#!/bin/sh\nexec /bin/cp "$2" {played}\n')
    tool.chmod(0o755)
    monkeypatch.setenv("PATH", str(tool.parent))
    pick(build, "voice/hello.wav")
    build.session.cut(SetRate(8_000), everywhere=False, keep=True)
    page = build.proof.sound
    build.swatch._proof.click()
    qtbot.waitUntil(page.plays["Play what ships"].isEnabled, timeout=WAIT)
    qtbot.mouseClick(page.plays["Play what ships"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: played.exists() and played.stat().st_size > 32_000, timeout=WAIT)
    assert soundfile.info(played).samplerate == 8_000
    qtbot.mouseClick(page.plays["Silence"], Qt.MouseButton.LeftButton)


def test_what_a_cut_of_a_model_saves_is_said_once_both_were_made(qtbot, build):
    session, row = build.session, build.cuts.list
    build.cuts.opener.click()
    for change, path in ((DropUnused(True), "snake.glb"), (ReduceMotion(1.0, 1.0), "snake.glb#animations/0")):
        pick(build, path)
        session.cut(change, everywhere=True, keep=True)
    assert [cut.subject for cut in session.job.cuts] == ["snake.glb", "snake.glb, clip 1"]
    assert session.saved_by_cut(0) == ("package", None)
    qtbot.waitUntil(lambda: all(session.saved_by_cut(place)[1] is not None for place in (0, 1)), timeout=WAIT)
    unused, motion = (session.saved_by_cut(place)[1] for place in (0, 1))
    sizes = {}
    for kept in ((), (0,), (1,), (0, 1)):
        settings = ModelSettings(unused=0 in kept, motion=((0, MotionBound(1.0, 1.0)),) if 1 in kept else ())
        packing = session.watched.packing
        data = trimmed_source(session.inventory.sources(10**8), session.inventory, "snake.glb", settings).file.geometry
        sizes[kept] = pack_bytes(data, packing)
    assert unused == sizes[1,] - sizes[0, 1] > 0 and motion == sizes[0,] - sizes[0, 1] > 0
    qtbot.waitUntil(lambda: row.item(0, 4).text() == bytes_text(unused), timeout=WAIT)


def test_the_ship_bench_says_what_a_target_holds_of_a_sound(qtbot, build, tmp_path):
    """Decoded on Pocket, as its file on Lounge."""
    session, ship = build.session, build.ship
    place = [row.path for row in session.inventory.others].index("door.wav")
    pick(build, "door.wav")
    session.cut(SetCodec(SoundCodec.VORBIS, 0.3), everywhere=True, keep=True)
    build.reveal(ship)
    for target, held in (("pocket", lambda plan: 2 * 44_100 * 4), ("lounge", lambda plan: plan.others.files[place])):
        session.watch(target)
        ship.folder.setText(str(tmp_path / target))

        def shown(held=held):
            ship.refresh()
            rows = {ship.list.item(row, 0).text(): ship.list.item(row, 4).text() for row in range(ship.list.rowCount())}
            return rows.get("door.wav") == bytes_text(int(held(session.plan())))

        qtbot.waitUntil(shown, timeout=WAIT)
    assert session.plan("lounge").others.files[place] < 100_000
