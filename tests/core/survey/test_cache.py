"""The cache: of one version, begun anew when damaged or deleted, its faults logged and never anybody's trouble."""

import logging
import sqlite3
from concurrent.futures import ThreadPoolExecutor

from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from tests.kit.trees import put


def older_cache(folder):
    """A cache as an older version left it, of some 4 MiB."""
    with sqlite3.connect(folder / "survey.sqlite") as connection:
        connection.execute("create table sample_14 (content text primary key, pieces blob)")
        rows = [(str(place), bytes(1 << 20)) for place in range(4)]
        connection.executemany("insert into sample_14 values (?, ?)", rows)
    connection.close()
    return folder / "survey.sqlite"


def test_what_an_older_version_kept_goes_and_new_samples_stay(tmp_path):
    root, folder = tmp_path / "art", tmp_path / "cache"
    folder.mkdir()
    old, strange = older_cache(folder), folder / "survey-9999.sqlite"
    strange.write_bytes(b"of a newer version")
    put(root, "a.png", size=(300, 200))
    cache = SurveyCache(folder, limit=1 << 20)
    content = finish(scan(root, cache=cache)).textures[0].content
    assert cache.sample(content) is not None, "the old one's size does not count against the new one"
    assert not old.exists() and strange.exists()
    assert finish(scan(root, cache=SurveyCache(folder, limit=1 << 20))).textures[0].content == content


def test_a_damaged_file_is_begun_anew_and_said_in_the_log(tmp_path, caplog):
    folder = tmp_path / "cache"
    folder.mkdir()
    SurveyCache(folder).file.write_bytes(b"not a database at all" * 1000)
    cache = SurveyCache(folder)
    with caplog.at_level(logging.WARNING):
        assert cache.measured() == {}
    assert "not a database" in caplog.text and str(cache.file) in caplog.text
    cache.keep_measured({"a": 3})
    assert SurveyCache(folder).measured() == {"a": 3}


def test_it_may_be_deleted_at_any_time(tmp_path):
    cache = SurveyCache(tmp_path)
    cache.keep_measured({"a": 3})
    for file in tmp_path.glob("survey*"):
        file.unlink()
    cache.keep_measured({"b": 4})
    assert SurveyCache(tmp_path).measured() == {"b": 4}


def test_a_folder_that_cannot_be_made_is_passed_over(tmp_path, caplog):
    (tmp_path / "file").write_text("in the way")
    cache = SurveyCache(tmp_path / "file")
    cache.keep_measured({"a": 3})
    assert cache.measured() == {} and cache.trim() == 0
    assert "file" in caplog.text


def test_many_threads_use_one_connection(tmp_path):
    cache = SurveyCache(tmp_path)

    def work(place):
        cache.keep_measured({f"{place} {k}": k for k in range(50)})
        return len(cache.measured()) >= 50

    with ThreadPoolExecutor(8) as pool:
        assert all(pool.map(work, range(40)))
    assert len(cache.measured()) == 2000
    cache.close()
    assert len(cache.measured()) == 2000
