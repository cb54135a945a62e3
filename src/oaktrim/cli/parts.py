"""The commands by what they are for, each loaded when it is called: `--help` and a slip of the keys need none of them."""

from __future__ import annotations

from importlib import import_module
from typing import NamedTuple

import click


class Part(NamedTuple):
    """Where a command is, as `module:name` below this package, its line in the list, and whether it may read pictures."""

    where: str
    line: str
    reads: bool = True


PARTS: dict[str, dict[str, Part]] = {
    "The window": {
        "open": Part("window:open_path", "Open the window on PATH, a folder or a job.", reads=False),
        "demo": Part("demo:demo", "Open the window on Heronmere Landing, the demonstration."),
        "example": Part("example:example", "Run the whole round on the demonstration in the terminal."),
    },
    "Weigh and judge": {
        "survey": Part("survey:survey", "Weigh what is in PATH against the limits of its targets."),
        "check": Part("check:check", "Say whether PATH may be built, for machines that build.", reads=False),
        "sight": Part("sight:sight", "Say how large each texture needs to be from the sightlines."),
        "station": Part("sight:station", "List, add and remove the sightlines of JOB."),
        "sharing": Part("sharing:sharing", "List near-same textures that one could serve."),
        "rehearse": Part("rehearse:rehearse_command", "Say what uploading the sources of PATH costs in looks."),
    },
    "Set and cut": {
        "job": Part("job:job_group", "Make a job, or show one."),
        "roles": Part("job:roles", "Set by hand what textures of JOB are used as."),
        "look-alikes": Part("rules:look_alikes_command", "List groups of look-alikes whose role is guessed or not known."),
        "role-rules": Part("rules:role_rules", "Show, set and remove rules for sizes by role."),
        "format-rules": Part("rules:format_rules", "Show and set rules for formats, or use the common ones."),
        "sound-rules": Part("rules:sound_rules", "Show, set and remove rules for sounds by role."),
        "checks": Part("rules:checks", "Show, set and remove checks of your own; re-grade findings."),
        "cut": Part("job:cut", "Cut the textures and sounds of JOB that a filter keeps."),
        "outfits": Part("outfits:outfits", "List parts of models with their costs, and leave some out."),
        "fit": Part("fit:fit", "Find the cuts that meet every limit at the least visible loss."),
    },
    "Make": {
        "pack": Part("makers:pack", "Pack up to four single-channel maps into one texture."),
        "unpack": Part("makers:unpack", "Split a packed FILE into grey PNG files."),
        "layouts": Part("makers:layouts", "List the layouts of packs."),
        "patch": Part("makers:patch", "Cut overlays that are mostly empty down to what is used."),
        "glyphs": Part("makers:glyphs", "Draw the glyphs of a FONT into one texture."),
        "atlas": Part("atlas:atlas", "Merge the materials of MODELS."),
        "imposter": Part("imposter:imposter", "Bake MODELS onto a few cards or view frames."),
        "surface": Part("surface:surface", "Flatten the light of IMAGES, and make them repeat."),
    },
    "Ship": {
        "ship": Part("ship:ship", "Make all that PATH ships, and write it into a folder."),
    },
    "Single files, and what is known": {
        "encode": Part("convert:encode", "Encode IMAGES in a texture format."),
        "decode": Part("convert:decode", "Decode a level of a KTX2 or DDS FILE into a PNG."),
        "measure": Part("convert:measure", "Measure how far picture B is from picture A."),
        "formats": Part("formats:formats", "List the texture formats.", reads=False),
        "targets": Part("targets:targets", "List the targets, or show the one of this ID.", reads=False),
        "desktop": Part("desktop:desktop", "Put Oak Trim into the desktop's menu, or take it out.", reads=False),
        "prepare": Part("prepare:prepare", "Compile the kernels for this machine once."),
    },
}  # fmt: skip
_BY_NAME = {name: part for parts in PARTS.values() for name, part in parts.items()}


class Parts(click.Group):
    """A group that loads a command when it is called, and lists them by what they are for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*_BY_NAME, *self.commands]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        part = _BY_NAME.get(cmd_name)
        if part is None:
            return super().get_command(ctx, cmd_name)
        if part.reads:
            import_module("oaktrim.core.configure").configure_work()
        module, _, name = part.where.partition(":")
        command = getattr(import_module(f"oaktrim.cli.{module}"), name)
        assert isinstance(command, click.Command)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        # One column for all parts, so that they read as one list.
        widest = max(map(len, _BY_NAME))
        for title, parts in PARTS.items():
            with formatter.section(title):
                formatter.write_dl([(name.ljust(widest), part.line) for name, part in parts.items()])
