"""The list of commands: it needs none of them, and each is where it says."""

import subprocess
import sys

import click

from oaktrim.cli.display import has_display, missing_packages
from oaktrim.cli.main import commands
from oaktrim.cli.parts import PARTS


def test_each_command_is_where_its_line_says():
    context = click.Context(commands)
    names = [name for parts in PARTS.values() for name in parts]
    assert commands.list_commands(context)[: len(names)] == names and len(set(names)) == len(names)
    for parts in PARTS.values():
        for name, part in parts.items():
            command = commands.get_command(context, name)
            assert command is not None and command.name == name
            assert part.line.endswith(".") and len(part.line) <= 62
    assert commands.get_command(context, "weight") is None


def test_help_and_lists_load_neither_kernels_nor_pictures():
    code = (
        "import sys\nfrom oaktrim.cli.main import commands\n"
        "commands.main(sys.argv[1:], prog_name='oak-trim', standalone_mode=False)\n"
        "print([name for name in ('numpy', 'numba', 'scipy', 'PIL', 'OpenImageIO', 'PySide6') if name in sys.modules])"
    )
    for arguments in (["--help"], ["targets"], ["formats"], ["targets", "pocket"]):
        done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True, check=True)
        assert done.stdout.splitlines()[-1] == "[]", arguments


def test_what_a_window_lacks_is_named_by_its_package(monkeypatch):
    missing = {"libxcb-cursor.so.0", "libEGL.so.1"}

    def load(name):
        if name in missing:
            raise OSError(name)

    monkeypatch.setattr("oaktrim.cli.display.ctypes.CDLL", load)
    assert missing_packages({"DISPLAY": ":0"}) == ["libegl1", "libxcb-cursor0"]
    assert missing_packages({"WAYLAND_DISPLAY": "wayland-0"}) == ["libegl1"]
    assert missing_packages({"QT_QPA_PLATFORM": "offscreen"}) == ["libegl1"]
    assert missing_packages({"QT_QPA_PLATFORM": "xcb", "WAYLAND_DISPLAY": "x"}) == ["libegl1", "libxcb-cursor0"]
    assert has_display({"DISPLAY": ":0"}) and not has_display({"DISPLAY": ""})
