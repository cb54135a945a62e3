"""The entry in the desktop: what is written is held to the checkers of its standards where they are installed, and goes again."""

import configparser
import os
import shutil
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import pytest
from click.testing import CliRunner
from PySide6.QtSvg import QSvgRenderer

from oaktrim.cli.main import commands
from oaktrim.cli.manual import entries_of, man_page, markdown
from oaktrim.cli.parts import PARTS

ROOT = Path(__file__).parents[2]


@pytest.fixture
def installed(tmp_path):
    done = CliRunner().invoke(commands, ["desktop", "install", "--prefix", str(tmp_path / "share")])
    assert done.exit_code == 0, done.output
    return tmp_path / "share"


def check(*command):
    """Hold a file to a checker, where it is installed."""
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not installed")
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr


def test_the_entry_starts_the_program_on_a_job(installed):
    entry = installed / "applications" / "org.oaktrim.OakTrim.desktop"
    parsed = configparser.ConfigParser(interpolation=None)
    parsed.optionxform = str
    parsed.read(entry)
    row = parsed["Desktop Entry"]
    assert row["Exec"].endswith("oak-trim open %f") and "@" not in entry.read_text()
    assert "application/x-oak-trim-job" in row["MimeType"].split(";")
    for icon in (row["Icon"], "application-x-oak-trim-job"):
        (file,) = installed.rglob(f"{icon}.svg")
        assert QSvgRenderer(str(file)).isValid()


def test_the_checkers_of_the_standards_are_content(installed):
    check("appstreamcli", "validate", "--no-net", next(installed.glob("metainfo/*.xml")))


def test_the_checker_of_desktop_entries_is_content(installed):
    check("desktop-file-validate", next(installed.glob("applications/*.desktop")))


def test_a_job_is_a_kind_of_file(installed):
    kinds = ElementTree.parse(next(installed.glob("mime/packages/*.xml"))).getroot()
    space = {"m": "http://www.freedesktop.org/standards/shared-mime-info"}
    (kind,) = kinds.findall("m:mime-type", space)
    assert kind.get("type") == "application/x-oak-trim-job"
    assert kind.find("m:glob", space).get("pattern") == "*.oak"


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_is_written_for_each_shell(installed, shell):
    (file,) = [row for row in installed.rglob("*oak-trim*") if shell in str(row.relative_to(installed))]
    assert "_OAK_TRIM_COMPLETE" in file.read_text()
    if shutil.which(shell):
        subprocess.run([shell, "-n", file], check=True)


def test_what_is_typed_is_completed():
    program = Path(sys.executable).parent / "oak-trim"
    told = {"_OAK_TRIM_COMPLETE": "bash_complete", "COMP_WORDS": "oak-trim sur", "COMP_CWORD": "1"}
    done = subprocess.run([program], env={**os.environ, **told}, capture_output=True, text=True, check=False)
    assert {row.partition(",")[2] for row in done.stdout.split()} == {"survey", "surface"}


def test_all_goes_again(installed):
    done = CliRunner().invoke(commands, ["desktop", "remove", "--prefix", str(installed)])
    assert done.exit_code == 0 and "9 files removed" in done.output
    assert not [file for file in installed.rglob("*oak*") if file.is_file()]


def test_a_folder_that_cannot_be_written_is_named(tmp_path):
    (tmp_path / "share").write_text("")
    done = CliRunner().invoke(commands, ["desktop", "install", "--prefix", str(tmp_path / "share" / "x")])
    assert done.exit_code != 0 and "share" in str(done.exception)


def test_the_manual_says_every_command_and_option():
    page, text = man_page(commands), markdown(commands)
    for title in PARTS:
        for entry in entries_of(commands, title):
            assert entry.usage in text and entry.usage.replace("-", "\\-") in page
            for option, words in entry.options:
                assert f"- `{option}` {words}" in text
    if shutil.which("groff"):
        done = subprocess.run(["groff", "-man", "-ww", "-z"], input=page, capture_output=True, text=True, check=False)
        assert done.stderr == ""


def test_the_page_of_commands_is_the_commands():
    assert (ROOT / "docs" / "commands.md").read_text() == markdown(commands), "run: make docs"
