"""What the documents say is so: examples run, commands and links exist, schemas and sizes are those of the code."""

import re
import shlex
from pathlib import Path

import click
import pytest

from oaktrim.cli.main import commands
from oaktrim.core.job.document import VERSION as JOB_VERSION
from oaktrim.core.makers.registry import KINDS
from oaktrim.core.plan.cuts import Change
from oaktrim.core.ship import manifest
from tests.kit.trees import put

ROOT = Path(__file__).parent.parent
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("*.md"))]
LINK = re.compile(r"\]\((?!https?:)([^)#\s]+)(?:#([^)]+))?\)")
HEADING = re.compile(r"^#+ (.+)$", re.MULTILINE)


def anchors(text: str) -> set[str]:
    """The anchors that a forge makes of headings."""
    return {re.sub(r"[^\w\- ]", "", line.lower()).strip().replace(" ", "-") for line in HEADING.findall(text)}


def commands_in(text: str) -> list[str]:
    """Lines of indented or fenced blocks that call the program; those that go on below are joined."""
    joined = re.sub(r" \\\n\s*", " ", text)
    return [line.strip() for line in joined.splitlines() if re.match(r" {4,}oak-trim ", line)]


def test_the_readme_is_short():
    lines = (ROOT / "README.md").read_text().splitlines()
    assert len(lines) <= 150 and "make demo" in "\n".join(lines[:30]) and "make test" in "\n".join(lines[:30])


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_links_lead_somewhere(document):
    text = document.read_text()
    for target, anchor in LINK.findall(text):
        path = (document.parent / target).resolve()
        assert path.exists(), target
        if anchor:
            assert anchor in anchors(path.read_text()), f"{target}#{anchor}"


@pytest.mark.parametrize("document", [d for d in DOCUMENTS if d.name != "commands.md"], ids=lambda path: path.name)
def test_commands_and_their_options_exist(document):
    """Each call in a document parses: the command is there, and takes what is written behind it."""
    context = click.Context(commands)
    for line in commands_in(document.read_text()):
        words = shlex.split(line, comments=True)[1:]
        command, parent = commands, context
        while isinstance(command, click.Group) and words and not words[0].startswith("-"):
            # Some commands take a job before what is done with it.
            while command.get_command(parent, words[0]) is None and any(
                isinstance(p, click.Argument) for p in command.params
            ):
                words.pop(0)
            found = command.get_command(parent, words[0])
            assert found is not None, line
            command, parent = found, click.Context(found, info_name=words.pop(0), parent=parent)
        options = {name for option in command.params for name in (*option.opts, *option.secondary_opts)} | {"--help"}
        for word in words:
            assert not word.startswith("-") or word.split("=")[0] in options or word == "-", f"{word} in: {line}"


def test_the_guide_has_a_way_out_of_each_trouble():
    guide = (ROOT / "docs" / "guide.md").read_text()
    assert len(commands_in(guide)) > 10
    for trouble in ("crashes for memory", "refused", "blurry", "too large", "when it grows", "far"):
        assert any(trouble in heading.lower() for heading in HEADING.findall(guide)), trouble


def test_examples_of_the_core_run(tmp_path, monkeypatch, capsys):
    text = (ROOT / "docs" / "api.md").read_text()
    blocks = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert len(blocks) == 4
    for name in ("brick_base.png", "plaster_base.png", "brick_n.png"):
        put(tmp_path / "art", name, size=(256, 128))
    monkeypatch.chdir(tmp_path)
    space: dict[str, object] = {"__name__": "example"}
    for place, block in enumerate(blocks):
        exec(compile(block, f"docs/api.md, example {place + 1}", "exec"), space)
    said = capsys.readouterr().out
    assert "to spare" in said and " JND " in said and "3 written, 0 unchanged" in said
    before, after = map(int, re.search(r"([\d,]+) bytes become ([\d,]+)", said.replace(",", "")).groups())
    assert after < before / 2
    assert (tmp_path / "art.oak").exists() and (tmp_path / "brick.dds").read_bytes()[:4] == b"DDS "


def test_schemas_and_kinds_are_named():
    formats = (ROOT / "docs" / "file-formats.md").read_text()
    sidecars = (ROOT / "docs" / "sidecars.md").read_text()
    code = "\n".join(path.read_text() for path in (ROOT / "src").rglob("*.py"))
    schemas = set(re.findall(r'"(oak-trim\.[\w-]+/\d+)"', code))
    assert manifest.SCHEMA in schemas and len(schemas) > 4
    for schema in schemas:
        assert f"`{schema}`" in formats or f"`{schema}`" in sidecars, schema
    assert f"version {JOB_VERSION}" in formats
    for change in Change.__args__:
        assert f"`{change.__struct_config__.tag}`" in formats, change
    for settings in KINDS:
        assert f"`{settings.__struct_config__.tag}`" in formats, settings


def test_the_changelog_is_by_version():
    text = (ROOT / "CHANGELOG.md").read_text()
    versions = re.findall(r"^## (\S+)", text, re.MULTILINE)
    assert versions[0] == "Unreleased" and versions[-1] == "0.1.0"
    kinds = set(re.findall(r"^### (.+)$", text, re.MULTILINE))
    assert kinds == {"Added", "Changed", "Fixed"}
    # Beneath a version stand lists, no prose.
    for line in text.splitlines()[2:]:
        assert not line or line.startswith(("## ", "### ", "- ", "  ")), line
