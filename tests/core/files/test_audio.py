"""Sounds: what they say of themselves, and broken ones."""

import io
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.errors import FileError
from oaktrim.core.files.audio import audio_head

SOUND = np.sin(np.arange(16000 * 2) / 20).reshape(-1, 2) * 0.5


def packed(kind, subtype=None):
    out = io.BytesIO()
    soundfile.write(out, SOUND, 16000, format=kind, subtype=subtype)
    return out.getvalue()


@pytest.mark.parametrize(("kind", "name"), [("WAV", "wav"), ("FLAC", "flac"), ("OGG", "ogg"), ("MP3", "mp3")])
def test_length_rate_and_channels(kind, name):
    head = audio_head(packed(kind), Path(f"a.{name}"))
    assert (head.kind, head.rate, head.channels) == (name, 16000, 2)
    assert head.seconds == pytest.approx(1.0, abs=0.1 if kind == "MP3" else 0)
    assert head.decoded_bytes == head.frames * 2 * 2


@given(st.sampled_from(["WAV", "FLAC", "OGG"]), st.data())
def test_broken_sounds_raise_nothing_else(kind, data):
    sound = bytearray(packed(kind))
    for _ in range(data.draw(st.integers(1, 6))):
        sound[data.draw(st.integers(0, min(len(sound) - 1, 200)))] = data.draw(st.integers(0, 255))
    cut = data.draw(st.integers(0, len(sound)))
    try:
        assert audio_head(bytes(sound[:cut]), Path("a.wav")).frames > 0
    except FileError as error:
        assert "a.wav" in str(error)
