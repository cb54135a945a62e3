"""Sounds: brought down without what folds back, the same bytes each time, told by their samples, judged by what is heard."""

import io
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.sounds import ogg
from oaktrim.core.sounds.codecs import SoundCodec, SoundSettings
from oaktrim.core.sounds.compare import compare, reference_for, spectrogram, waveform
from oaktrim.core.sounds.encode import brought_down, encode
from oaktrim.core.sounds.signal import Sound, decode, mixed, resampled, shortened, trimmed
from oaktrim.core.sounds.traits import SILENT, envelope_peaks, heard_seconds, sound_traits

RATE = 48_000
WHERE = Path("gull.wav")


def tone(hertz, seconds=1.0, rate=RATE, level=0.5):
    return np.sin(2 * np.pi * hertz * np.arange(round(seconds * rate)) / rate).astype(np.float32) * level


def sound(*channels, rate=RATE):
    return Sound(np.stack(channels, axis=1).astype(np.float32), rate)


def as_wav(made, subtype="PCM_16"):
    out = io.BytesIO()
    soundfile.write(out, made.samples, made.rate, format="WAV", subtype=subtype)
    return out.getvalue()


def level_db(samples):
    return 20 * np.log10(np.sqrt(np.mean(np.square(samples, dtype=np.float64))) * np.sqrt(2) + 1e-12)


@pytest.mark.parametrize("rate", [24_000, 22_050, 32_000, 8_000])
def test_a_lower_rate_keeps_what_fits_and_folds_nothing_back(rate):
    kept = resampled(sound(tone(rate * 0.44)), rate).samples[2000:-2000]
    assert level_db(kept / 0.5) == pytest.approx(0, abs=0.05)
    gone = resampled(sound(tone(min(rate * 0.53, RATE / 2 - 100))), rate).samples[2000:-2000]
    assert level_db(gone / 0.5) < -85


def test_a_rate_there_and_back_is_the_same_sound():
    made = sound(tone(440), tone(3000))
    back = resampled(resampled(made, 96_000), RATE)
    assert np.abs(back.samples[500:-500] - made.samples[500:-500]).max() < 1e-3


def test_ends_length_and_channels():
    quiet = np.zeros(RATE // 2, np.float32)
    made = sound(np.concatenate([quiet, tone(440), quiet]), np.concatenate([quiet, tone(440), quiet]))
    cut = trimmed(made, -60)
    assert cut.seconds == pytest.approx(1.02, abs=0.002)
    # The first frame of a sine is 0; a hundredth of a second is left around what is heard.
    assert np.array_equal(cut.samples[:40_000], made.samples[RATE // 2 + 1 - 480 :][:40_000])
    short = shortened(made, 0.75)
    assert len(short.samples) == 36_000 and abs(short.samples[-1]).max() == 0
    assert np.array_equal(shortened(made, 99).samples, made.samples)
    assert mixed(sound(tone(440), -tone(440)), 1).samples.max() == 0
    assert len(trimmed(sound(quiet), -60).samples) >= 1


@pytest.mark.parametrize(
    ("codec", "quality", "least"),
    [(SoundCodec.PCM, 0, 34), (SoundCodec.FLAC, 0, 34), (SoundCodec.VORBIS, 0.8, 15), (SoundCodec.OPUS, 128, 12)],
)
def test_every_codec_is_read_back_the_same_length_and_to_the_same_bytes(codec, quality, least):
    rng = np.random.default_rng(5)
    made = sound(tone(440, 1.3) + rng.normal(0, 0.02, 62_400), tone(660, 1.3))
    settings = SoundSettings(RATE, 2, codec, quality)
    data = encode(made, settings)
    assert data == encode(made, settings)
    back = decode(data, WHERE)
    assert back.samples.shape == made.samples.shape and back.rate == RATE
    assert compare(made, back).segmental > least


def test_bits_follow_the_quality():
    rng = np.random.default_rng(6)
    made = sound(rng.normal(0, 0.2, RATE * 2))
    for codec, qualities in ((SoundCodec.VORBIS, (0.0, 0.3, 0.6, 1.0)), (SoundCodec.OPUS, (16, 48, 96))):
        sizes = [len(encode(made, SoundSettings(RATE, 1, codec, q))) for q in qualities]
        assert sizes == sorted(sizes) and sizes[-1] > 2 * sizes[0]
    sizes = len(encode(made, SoundSettings(RATE, 1, SoundCodec.OPUS, 48)))
    assert sizes * 8 / 2 == pytest.approx(48_000, rel=0.25)


def test_opus_takes_its_own_rates_alone():
    with pytest.raises(Unsupported, match=r"not 44\.1"):
        encode(sound(tone(440), rate=44_100), SoundSettings(44_100, 1, SoundCodec.OPUS, 48))


def test_an_ogg_page_has_the_checksum_of_the_standard():
    """Of RFC 3533: what libogg wrote is what is computed, and a stream with another number is read by it."""
    data = encode(sound(tone(440)), SoundSettings(RATE, 1, SoundCodec.VORBIS, 0.4))
    stop = 28 + data[27]
    page = bytearray(data[:stop])
    stated = int.from_bytes(page[22:26], "little")
    page[22:26] = bytes(4)
    assert ogg.checksum(bytes(page)) == stated
    other = ogg.with_serial(data, 77)
    assert other != data and ogg.with_serial(other, int.from_bytes(data[14:18], "little")) == data
    assert np.array_equal(decode(other, WHERE).samples, decode(data, WHERE).samples)
    assert 2000 < ogg.header_bytes(data) < len(data)
    with pytest.raises(ValueError, match="byte 0"):
        ogg.with_serial(b"RIFF" + data, 1)
    with pytest.raises(ValueError, match="not whole"):
        ogg.with_serial(data[:-1], 1)


def test_what_samples_say():
    half = np.zeros(RATE, np.float32)
    made = sound(np.concatenate([half, tone(5000), half]), np.concatenate([half, tone(5000), half]))
    traits = sound_traits(as_wav(made), WHERE)
    assert traits.peak == pytest.approx(-6, abs=0.1) and traits.clipped == 0 and traits.side == SILENT
    assert 5000 < traits.bandwidth < 5200
    assert heard_seconds(traits.envelope, traits.step, 3.0, -60) == pytest.approx((1.0, 2.0), abs=0.06)
    assert envelope_peaks(traits.envelope).max() == pytest.approx(0.5, rel=0.05)
    loud = sound_traits(as_wav(sound(np.clip(tone(100, level=2.0), -1, 1))), WHERE)
    assert loud.clipped == pytest.approx(2 / 3 * RATE, rel=0.02)
    apart = sound_traits(as_wav(sound(tone(300), tone(450))), WHERE)
    assert apart.side == pytest.approx(0, abs=0.2)
    nothing = sound_traits(as_wav(sound(half)), WHERE)
    assert nothing.peak <= SILENT and nothing.bandwidth == 0
    assert heard_seconds(nothing.envelope, nothing.step, 1.0, -60) == (0, 0)


def test_a_rate_that_the_traits_call_enough_loses_nothing_that_is_heard():
    rng = np.random.default_rng(3)
    low = resampled(Sound(rng.normal(0, 0.1, (20_000, 1)).astype(np.float32), 20_000), RATE)
    traits = sound_traits(as_wav(low), WHERE)
    assert traits.bandwidth / 0.9 < 12_000
    there = compare(low, resampled(low, 24_000))
    assert there.audible == 0 and there.segmental > 33
    less = compare(low, resampled(low, 11_025))
    assert less.audible > 1 and less.lost[-1] < less.lost[less.bands.searchsorted(8000)]


def test_what_is_heard_grows_with_what_is_taken():
    rng = np.random.default_rng(4)
    steps = np.repeat(rng.uniform(0.02, 0.3, 30), RATE // 10)
    made = sound(np.cumsum(rng.normal(0, 0.02, len(steps))) % 0.3 * steps, tone(523, 3.0) * steps)
    losses = []
    for settings in (
        SoundSettings(RATE, 2, SoundCodec.PCM), SoundSettings(RATE, 2, SoundCodec.VORBIS, 0.9),
        SoundSettings(RATE, 2, SoundCodec.VORBIS, 0.3), SoundSettings(8_000, 1, SoundCodec.PCM),
    ):  # fmt: skip
        back = decode(encode(brought_down(made, settings), settings), WHERE)
        losses.append(compare(reference_for(made, settings), back).audible)
    assert losses == sorted(losses) and losses[0] == 0 and losses[-1] > 2


def test_a_comparison_is_of_what_is_left():
    """Trimmed ends and a shorter length are no loss of what is still heard."""
    quiet = np.zeros(RATE, np.float32)
    made = sound(np.concatenate([quiet, tone(800, 2.0), quiet]))
    settings = SoundSettings(RATE, 1, SoundCodec.PCM, 0.0, -60.0, 1.0)
    loss = compare(reference_for(made, settings), brought_down(made, settings))
    assert loss.segmental == 35 and loss.audible == 0
    assert loss.before.max() == pytest.approx(-9, abs=0.5)


def test_pictures_of_a_sound():
    made = sound(np.concatenate([tone(1000, 0.5), tone(12_000, 0.5)]))
    picture = spectrogram(made, 80, 48)
    assert picture.shape == (48, 80)
    assert picture[:, 10].argmax() == pytest.approx(45, abs=1) and picture[:, 70].argmax() == pytest.approx(23, abs=1)
    wave = waveform(made, 50)
    assert (
        wave.shape == (50, 2)
        and wave.min() == pytest.approx(-0.5, abs=0.01)
        and wave.max() == pytest.approx(0.5, abs=0.01)
    )
    assert waveform(sound(tone(1000, 0.0002)), 50).shape == (50, 2)


@given(st.sampled_from(["WAV", "FLAC", "OGG"]), st.data())
def test_broken_sounds_are_file_errors(kind, data):
    out = io.BytesIO()
    soundfile.write(out, np.sin(np.arange(9000) / 5), 16_000, format=kind)
    broken = bytearray(out.getvalue())
    for _ in range(data.draw(st.integers(1, 6))):
        broken[data.draw(st.integers(0, len(broken) - 1))] = data.draw(st.integers(0, 255))
    broken = bytes(broken[: data.draw(st.integers(1, len(broken)))])
    for read in (decode, sound_traits):
        try:
            read(broken, WHERE)
        except FileError as error:
            assert error.path == WHERE


def test_samples_that_are_no_numbers_are_said():
    samples = tone(440)
    samples[100] = np.nan
    data = as_wav(sound(samples), "FLOAT")
    for read in (decode, sound_traits):
        with pytest.raises(FileError, match="no numbers"):
            read(data, WHERE)
