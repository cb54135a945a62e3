"""The commands as documents: a page for `man`, and one in Markdown; both are read off the commands themselves."""

from __future__ import annotations

import inspect
from collections.abc import Iterator
from dataclasses import dataclass

import click

from oaktrim import __version__
from oaktrim.cli.parts import PARTS


@dataclass(frozen=True)
class Entry:
    """One command: how it is called, what it does in paragraphs, and its options with what each does."""

    name: str
    usage: str
    paragraphs: tuple[str, ...]
    options: tuple[tuple[str, str], ...]


def entries_of(group: click.Group, title: str) -> list[Entry]:
    """Return the commands of one part of the list, with the commands below them."""
    context = click.Context(group, info_name="oak-trim")
    return [
        entry
        for name in PARTS[title]
        for entry in _walk(group.get_command(context, name), click.Context(group, info_name="oak-trim"), name)
    ]


def _walk(command: click.Command | None, parent: click.Context, name: str) -> Iterator[Entry]:
    assert command is not None
    context = click.Context(command, info_name=name, parent=parent)
    usage = " ".join(command.get_usage(context).removeprefix("Usage: ").split())
    text = inspect.cleandoc(command.help or "").replace("\b\n", "")
    paragraphs = tuple(" ".join(row.split()) for row in text.split("\n\n") if row.strip())
    options = [parameter.get_help_record(context) for parameter in command.params]
    rows = tuple((row[0], " ".join(row[1].split())) for row in options if row is not None and row[1])
    yield Entry(context.command_path, usage, paragraphs, rows)
    if isinstance(command, click.Group):
        for below in command.list_commands(context):
            yield from _walk(command.get_command(context, below), context, below)


def markdown(group: click.Group) -> str:
    """Return all commands as one page in Markdown."""
    lines = [
        "# The command line", "",
        "Written by `oak-trim desktop commands` from the commands themselves; `oak-trim COMMAND --help` says the same.", "",
        "Exit statuses: 0 where all is well; 1 where a limit is not met; 2 where something cannot be read, written or",
        "understood; 3 where something unforeseen happens, with where it is logged; 130 after Ctrl+C, 143 after SIGTERM, with",
        "what was finished kept. Where no terminal shows a bar, long commands write a line every ten seconds.", "",
    ]  # fmt: skip
    for title in PARTS:
        lines += [f"## {title}", ""]
        for entry in entries_of(group, title):
            lines += [f"### {entry.name}", "", f"    {entry.usage}", ""]
            for paragraph in entry.paragraphs:
                lines += [paragraph, ""]
            lines += [f"- `{option}` {words}" for option, words in entry.options]
            lines += [""] if entry.options else []
    return "\n".join(lines).rstrip() + "\n"


def man_page(group: click.Group) -> str:
    """Return all commands as a page for `man`, in the macros of man(7)."""
    lines = [
        f'.TH OAK-TRIM 1 "" "Oak Trim {__version__}" "User Commands"', ".SH NAME",
        "oak\\-trim \\- weigh a game's textures against platform budgets, cut them down, prove the result and ship it",
        ".SH SYNOPSIS", ".B oak\\-trim", "[\\fICOMMAND\\fR] [\\fIOPTIONS\\fR]", ".PP", "Without a command, the window opens.",
    ]  # fmt: skip
    for title in PARTS:
        lines.append(f".SH {title.upper()}")
        for entry in entries_of(group, title):
            lines += [".SS " + _roff(entry.usage)]
            for place, paragraph in enumerate(entry.paragraphs):
                lines += [".PP"] if place else []
                lines.append(_roff(paragraph))
            for option, words in entry.options:
                lines += [".TP", f"\\fB{_roff(option)}\\fR", _roff(words)]
    lines += [
        ".SH EXIT STATUS", "0 where all is well, 1 where a limit is not met, 2 where something cannot be read, written or",
        "understood, 3 where something unforeseen happens, 130 after Ctrl+C, 143 after SIGTERM.",
        ".SH FILES", ".TP", "\\fI~/.config/oak\\-trim/settings.toml\\fR", "Settings.", ".TP",
        "\\fI~/.cache/oak\\-trim\\fR", "What can be made again; it may be deleted at any time.",
        ".TP", "\\fI~/.local/state/oak\\-trim/log\\fR", "What was done, and what went wrong.",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    """Return text that roff shows as it is."""
    shown = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{shown}" if shown.startswith((".", "'")) else shown
