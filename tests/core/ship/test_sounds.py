"""Sounds in a build: made by their cuts or copied, read back, weighed as forecast, and made once."""

import msgspec
import numpy as np
import pytest
import soundfile

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.soundcuts import SetCodec, SetMono, SetRate
from oaktrim.core.progress import finish
from oaktrim.core.ship.reason import Reason
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.schedule import schedule
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.sounds.codecs import SoundCodec, SoundStorage
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.targets.lines import byte_lines
from oaktrim.core.targets.target import target_named
from tests.core.plan.test_soundrules import put_sound
from tests.kit.trees import put, surveyed

ALL = ("voice/hello.wav", "bell.flac")
CUTS = (Cut(SetCodec(SoundCodec.VORBIS, 0.2), ALL), Cut(SetRate(22_050), ALL), Cut(SetMono(True), ("voice/hello.wav",)))


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put_sound(root, "voice/hello.wav", seconds=4, seed=1)
    put_sound(root, "bell.flac", seconds=3, seed=2)
    put_sound(root, "bell.wav", seconds=1, seed=3)
    put(root, "brick.png")
    return root


def on(target="pocket", held=SoundStorage.DECODED):
    found = target_named(target)
    limits = msgspec.structs.replace(found.limits, **dict.fromkeys(byte_lines(), "1 GiB"))
    return msgspec.structs.replace(found, limits=limits, sound_storage=held)


def test_sounds_are_made_or_copied_and_read_back(art, tmp_path):
    out = tmp_path / "out"
    before = {path: path.read_bytes() for path in art.rglob("*") if path.is_file()}
    done = finish(ship(resolve(surveyed(art), on(), CUTS), out))
    entries = {entry.source: entry for entry in done.manifest.sounds}
    assert {name: entry.output for name, entry in entries.items()} == {
        "voice/hello.wav": "voice/hello.ogg", "bell.flac": "bell.ogg", "bell.wav": "bell.wav",
    }  # fmt: skip
    samples, rate = soundfile.read(out / "voice/hello.ogg", always_2d=True)
    assert (rate, samples.shape) == (22_050, (88_200, 1))
    assert soundfile.info(out / "bell.ogg").channels == 2
    assert (out / "bell.wav").read_bytes() == (art / "bell.wav").read_bytes()
    assert entries["bell.wav"].settings is None and entries["voice/hello.wav"].role == "speech"
    assert {path: path.read_bytes() for path in before} == before
    again = finish(ship(resolve(surveyed(art), on(), CUTS), out))
    assert (again.written, again.unchanged) == (0, 4)


def test_names_that_would_meet_keep_their_own_endings(art, tmp_path):
    (art / "bell.ogg").write_bytes(b"OggS")
    put_sound(art, "bell.ogg", seconds=1)
    names = {item.recipe.path: item.output for item in schedule(resolve(surveyed(art), on(), CUTS), tmp_path / "out")}
    assert names["bell.flac"] == "bell.flac.ogg" and names["bell.ogg"] == "bell.ogg"


@pytest.mark.parametrize("held", list(SoundStorage))
def test_what_was_measured_is_what_ships(art, tmp_path, held):
    inventory, target, cache = surveyed(art), on(held=held), SurveyCache(tmp_path)
    ratios = CompressionRatios(inventory)
    guessed = resolve(inventory, target, CUTS, ratios)
    ratios = ratios.merged(finish(measure_packages(guessed, ratios, cache)))
    plan = resolve(inventory, target, CUTS, ratios)
    assert plan.all_measured and not guessed.all_measured
    done = finish(ship(plan, tmp_path / "out", store=MadeStore.beside(cache)))
    assert {s.line.name: s.value for s in done.statuses if s.line.in_bytes} == {
        line: plan.total(line) for line in byte_lines()
    }
    decoded = 22_050 * 4 * 2 + 22_050 * 3 * 4 + 44_100 * 4
    files = sum(entry.file_bytes for entry in done.manifest.sounds)
    assert plan.total("sounds") == (decoded if held is SoundStorage.DECODED else files)


def test_a_changed_source_setting_or_output_is_made_again(art, tmp_path):
    out = tmp_path / "out"
    finish(ship(resolve(surveyed(art), on(), CUTS), out))
    put_sound(art, "bell.wav", seconds=1, seed=9)
    (out / "bell.ogg").write_bytes(b"something else")
    louder = Cut(SetCodec(SoundCodec.VORBIS, 0.6), ("voice/hello.wav",))
    reasons = {item.recipe.path: item.reason for item in schedule(resolve(surveyed(art), on(), (*CUTS, louder)), out)}
    assert reasons["bell.wav"] is Reason.SOURCE and reasons["voice/hello.wav"] is Reason.RECIPE
    assert reasons["bell.flac"] is Reason.OUTPUT and reasons["brick.png"] is Reason.UNCHANGED
    opus = Cut(SetCodec(SoundCodec.OPUS, 32), ("voice/hello.wav",))
    done = finish(ship(resolve(surveyed(art), on(), (*CUTS, opus)), out))
    assert done.removed == 1 and not (out / "voice/hello.ogg").exists() and (out / "voice/hello.opus").exists()


def test_a_sound_that_cannot_be_made_is_said_and_the_run_goes_on(art, tmp_path):
    plan = resolve(surveyed(art), on(), CUTS)
    samples = np.zeros(44_100, np.float32)
    soundfile.write(art / "bell.flac", samples, 44_100)
    done = finish(ship(plan, tmp_path / "out"))
    (failure,) = done.manifest.failed
    assert failure.source == "bell.flac" and "changed since it was surveyed" in failure.error
    assert (tmp_path / "out/voice/hello.ogg").exists()


def test_a_made_sound_is_taken_from_the_store(art, tmp_path):
    store = MadeStore(tmp_path / "made")
    finish(ship(resolve(surveyed(art), on(), CUTS), tmp_path / "one", store=store))
    kept = {path: path.read_bytes() for path in (tmp_path / "made").rglob("*") if path.is_file()}
    finish(ship(resolve(surveyed(art), on(), CUTS), tmp_path / "two", store=store))
    assert (tmp_path / "one/bell.ogg").read_bytes() == (tmp_path / "two/bell.ogg").read_bytes()
    assert {path: path.read_bytes() for path in (tmp_path / "made").rglob("*") if path.is_file()} == kept
