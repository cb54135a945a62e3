"""What sounds ship as: by role, by hand over that, and no worse than they need to."""

import msgspec
import numpy as np
import pytest
import soundfile

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.excerpts import measure_excerpts, missing_excerpts
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.packing import CompressionRatios, Measured
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.soundcuts import SetCodec, SetLongest, SetMono, SetRate, TrimSilence, codec_change
from oaktrim.core.plan.soundrules import SoundRule, SoundRules, usual_bytes
from oaktrim.core.plan.verdict import change_of, findings_of
from oaktrim.core.progress import finish
from oaktrim.core.ship.sounds import made_sound
from oaktrim.core.sounds.codecs import SoundCodec, SoundKind
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.soundroles import SoundPattern, SoundRole
from oaktrim.core.targets.target import target_named
from tests.kit.trees import found, surveyed

RATE = 44_100


def put_sound(root, name, seconds=2.0, rate=RATE, channels=2, seed=0, **how):
    rng = np.random.default_rng(seed)
    count = round(seconds * rate)
    knots = np.arange(0, count + 4000, 2000)
    level = np.interp(np.arange(count), knots, rng.uniform(0.01, 0.4, len(knots)))
    path = root / name
    path.parent.mkdir(parents=True, exist_ok=True)
    soundfile.write(path, rng.normal(0, 0.4, (count, channels)) * level[:, None], rate, **how)
    return path


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put_sound(root, "voice/greeting.wav", seed=1)
    put_sound(root, "music/theme.wav", seconds=9, seed=2)
    put_sound(root, "door.flac", seed=3)
    put_sound(root, "bell.ogg", seed=4)
    return root


def recipes(root, *cuts, rules=(), patterns=(), target="pocket"):
    plan = resolve(
        surveyed(root), target_named(target), cuts, rules=Rules(sounds=SoundRules(tuple(rules), tuple(patterns)))
    )
    return plan.others.recipes


def test_names_and_folders_tell_what_a_sound_is(art):
    put_sound(art, "misc/x1.wav", seconds=50, rate=8000, channels=1)
    roles = {path: recipe.role for path, recipe in recipes(art).items()}
    assert roles == {
        "voice/greeting.wav": SoundRole.SPEECH, "music/theme.wav": SoundRole.MUSIC, "door.flac": SoundRole.EFFECT,
        "bell.ogg": SoundRole.EFFECT, "misc/x1.wav": SoundRole.MUSIC,
    }  # fmt: skip
    told = recipes(art, patterns=[SoundPattern("door*", SoundRole.AMBIENCE), SoundPattern("misc/*", SoundRole.SPEECH)])
    assert told["door.flac"].role is SoundRole.AMBIENCE and told["misc/x1.wav"].role is SoundRole.SPEECH


def test_rules_and_what_a_hand_says_over_them(art):
    speech = SoundRule(SoundRole.SPEECH, (SetMono(True), SetRate(24_000), SetCodec(SoundCodec.VORBIS, 0.3)))
    phone = SoundRule(SoundRole.SPEECH, (SetRate(16_000),), ("pocket",))
    by_hand = Cut(SetRate(22_050), ("voice/greeting.wav",), ("visor",))
    made = recipes(art, by_hand, rules=[phone, speech])
    settings = made["voice/greeting.wav"].settings
    assert (settings.rate, settings.channels, settings.codec, settings.quality) == (16_000, 1, SoundCodec.VORBIS, 0.3)
    assert made["music/theme.wav"].settings is None and made["music/theme.wav"].kind is None
    assert recipes(art, by_hand, rules=[phone, speech], target="visor")["voice/greeting.wav"].rate == 22_050
    assert speech.label == "mono, rate 24 kHz, Vorbis 0.3"
    with pytest.raises(ValueError, match="once"):
        SoundRule(SoundRole.SPEECH, (SetRate(8000), SetRate(9000)))


def test_what_would_change_nothing_is_left_as_it_is(art):
    everything = ("voice/greeting.wav", "door.flac", "bell.ogg")
    for change in (SetRate(48_000), SetLongest(60.0), TrimSilence(-60.0), SetMono(False)):
        assert all(recipes(art, Cut(change, everything))[path].settings is None for path in everything), change
    # Encoding a lossy file again as well as it is, or better, only loses.
    own = recipes(art, Cut(SetCodec(SoundCodec.VORBIS, 0.9), ("bell.ogg",)))["bell.ogg"]
    assert own.settings is None
    assert recipes(art, Cut(SetCodec(SoundCodec.VORBIS, 0.0), ("bell.ogg",)))["bell.ogg"].settings is not None
    assert recipes(art, Cut(SetCodec(SoundCodec.FLAC), ("door.flac",)))["door.flac"].settings is None
    # Its own codec is kept where only the rate is cut; Opus takes the next rate that it has.
    assert recipes(art, Cut(SetRate(22_050), everything))["bell.ogg"].settings.codec is SoundCodec.VORBIS
    assert recipes(art, Cut(SetCodec(SoundCodec.OPUS, 48), everything))["door.flac"].rate == 48_000


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: SetRate(100), "4000 to 192000"), (lambda: SetCodec(SoundCodec.OPUS, 0.3), "6 to 256"),
        (lambda: SetCodec(SoundCodec.PCM, 1), "no quality"), (lambda: TrimSilence(0), "-120 to -20"),
        (lambda: SetLongest(0), "0.05 to"), (lambda: codec_change("aac:1"), "not 'aac'"),
        (lambda: codec_change("vorbis:x"), "a number"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused(make, words):
    with pytest.raises(ValueError, match=words):
        make()


@pytest.mark.parametrize(
    "changes",
    [
        (SetCodec(SoundCodec.VORBIS, 0.3),), (SetCodec(SoundCodec.OPUS, 40), SetMono(True)), (SetRate(22_050),),
        (SetCodec(SoundCodec.FLAC),), (SetRate(16_000), SetMono(True), SetCodec(SoundCodec.VORBIS, 0.1), SetLongest(6.0)),
    ],
)  # fmt: skip
def test_forecasts_of_excerpts_come_near_what_is_made(art, tmp_path, changes):
    paths = ("music/theme.wav", "voice/greeting.wav")
    inventory, target = surveyed(art), target_named("pocket")
    cuts = tuple(Cut(change, paths) for change in changes)
    ratios = CompressionRatios(inventory)
    plan = resolve(inventory, target, cuts, ratios)
    ratios = ratios.merged(finish(measure_excerpts(art, missing_excerpts([plan], ratios), SurveyCache(tmp_path))))
    plan = resolve(inventory, target, cuts, ratios)
    assert not missing_excerpts([plan], ratios)
    files = dict(zip((row.path for row in inventory.others), plan.others.files.tolist(), strict=True))
    for facts in inventory.audio:
        if facts.path in paths:
            recipe = plan.others.recipes[facts.path]
            made = len(made_sound(art, facts, recipe))
            assert files[facts.path] == pytest.approx(made, rel=0.1)
            size, exact = usual_bytes(recipe)
            assert size == (made if exact else pytest.approx(made, rel=0.9))


def test_findings_on_sounds(tmp_path):
    root = tmp_path / "art"
    tone = np.sin(np.arange(96_000) * 2 * np.pi * 900 / 48_000) * 0.5
    root.mkdir()
    soundfile.write(root / "low.wav", tone, 48_000)
    soundfile.write(
        root / "twin.wav", np.repeat(np.random.default_rng(0).normal(0, 0.1, (48_000, 1)), 2, axis=1), 48_000
    )
    soundfile.write(root / "gap.wav", np.concatenate([tone, np.zeros(48_000 * 3), tone, np.zeros(48_000)]), 48_000)
    soundfile.write(root / "flat.wav", np.clip(tone * 4, -1, 1), 48_000)
    soundfile.write(root / "nothing.wav", np.zeros(48_000), 48_000)
    codes = found(root, "pocket")
    assert "rate-to-spare" in codes["low.wav"] and "stereo-is-mono" in codes["twin.wav"]
    assert "rate-to-spare" not in codes["twin.wav"]
    assert codes["gap.wav"].count("long-silence") == 2 and "clipped" in codes["flat.wav"]
    assert "long-silence" in codes["nothing.wav"]


def test_a_cut_mends_its_finding(tmp_path):

    root = tmp_path / "art"
    root.mkdir()
    tone = np.sin(np.arange(96_000) * 2 * np.pi * 900 / 48_000) * 0.5
    quiet = np.zeros(24_000)
    soundfile.write(root / "low.wav", np.repeat(np.concatenate([quiet, tone, quiet])[:, None], 2, axis=1), 48_000)
    inventory, target = surveyed(root), target_named("pocket")
    cuts = []
    for code in ("rate-to-spare", "stereo-is-mono", "long-silence"):
        (one,) = [f for f in findings_of(resolve(inventory, target, cuts)) if f.code == code]
        assert one.bytes > 0
        cuts.append(Cut(change_of(one.fix), ("low.wav",)))
        assert code not in {f.code for f in findings_of(resolve(inventory, target, cuts))}


def test_a_kind_that_is_not_played_is_an_error_with_a_way_out(tmp_path):

    root = tmp_path / "art"
    put_sound(root, "door.flac")
    target = msgspec.structs.replace(target_named("pocket"), sound_kinds=(SoundKind.OPUS, SoundKind.MP3))
    inventory = surveyed(root)
    (one,) = [f for f in findings_of(resolve(inventory, target)) if f.code == "sound-kind"]
    change = change_of(one.fix)
    assert change == SetCodec(SoundCodec.OPUS, 48)
    assert not [
        f for f in findings_of(resolve(inventory, target, (Cut(change, ("door.flac",)),))) if f.code == "sound-kind"
    ]


def test_merged_sizes_are_known_by_content_and_settings(art):
    inventory, target = surveyed(art), target_named("pocket")
    cut = Cut(SetCodec(SoundCodec.VORBIS, 0.3), ("music/theme.wav",))
    ratios = CompressionRatios(inventory)
    before = resolve(inventory, target, (cut,), ratios)
    (place,) = [n for n, row in enumerate(inventory.others) if row.path == "music/theme.wav"]
    recipe = before.others.recipes["music/theme.wav"]
    content = inventory.others[place].content
    known = ratios.merged(Measured({f"{content} {recipe.settings.key} file": 12_345}))
    after = resolve(inventory, target, (cut,), known)
    assert after.others.files[place] == 12_345 and after.total("unpacked") < resolve(inventory, target).total(
        "unpacked"
    )
    louder = Cut(SetCodec(SoundCodec.VORBIS, 0.6), ("music/theme.wav",))
    assert resolve(inventory, target, (louder,), known).others.files[place] != 12_345
