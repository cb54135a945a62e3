"""The user's settings: one file, checked, whose faults do no harm; and what follows them."""

import subprocess
import sys

import pytest

from oaktrim.core.errors import DocumentError
from oaktrim.core.job.document import new_job
from oaktrim.core.progress import THREADS, threads_here
from oaktrim.core.settings import Settings, load_settings, read_settings, save_settings, settings_file
from oaktrim.core.survey.cache import SurveyCache


def test_they_come_back_and_jobs_begin_with_them(tmp_path):
    assert load_settings() == Settings()
    wanted = Settings("dusk", 3, "512 MiB", 1 << 24, ("lounge", "gone"))
    save_settings(wanted)
    assert load_settings() == wanted and wanted.cache_bytes == 512 << 20
    job = new_job(tmp_path, load_settings())
    # A target that is not there any more is left out.
    assert job.targets == ("lounge",) and job.max_pixels == 1 << 24
    assert len(new_job(tmp_path).targets) == 3
    assert SurveyCache().limit is None


@pytest.mark.parametrize(
    ("text", "words"),
    [("theme = 'loud'", "theme"), ("threads = -1", "threads"), ("cache_limit = 'much'", "a size is a number"),
     ("max_pixels = 0", "max_pixels"), ("theme = ", "Invalid value"), ("\xff", "codec")],
)  # fmt: skip
def test_a_wrong_file_is_named_and_the_defaults_hold(text, words, caplog):
    file = settings_file()
    file.parent.mkdir(parents=True)
    file.write_bytes(text.encode("latin-1"))
    with pytest.raises(DocumentError, match=words) as caught:
        read_settings(file)
    assert str(file) in str(caught.value)
    assert load_settings() == Settings()
    assert str(file) in caplog.text


def test_a_program_uses_as_many_threads_and_says_so_to_those_beside_it(monkeypatch):
    monkeypatch.delenv(THREADS, raising=False)
    save_settings(Settings(threads=5))
    code = (
        "import os\nfrom oaktrim.core.configure import configure\nfrom oaktrim.core.progress import *\n"
        "before = threads_here()\nconfigure()\nprint(before, threads_here(), os.environ[THREADS])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split()[1:] == ["5", "5"]
    monkeypatch.setenv(THREADS, "0")
    assert threads_here() >= 1
