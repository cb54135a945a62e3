"""The colours of the workshop, in daylight and at dusk; colour carries meaning only."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtGui import QColor, QGuiApplication, Qt

from oaktrim.core.survey.roles import Family


@dataclass(frozen=True)
class Tokens:
    """One theme; every value is a hexadecimal colour."""

    linen: str
    sheet: str
    stripe: str
    line: str
    ink: str
    soft: str
    oak: str
    oak_pale: str
    slate: str
    moss: str
    plum: str
    other: str
    clay: str
    dusk: str
    teal: str
    rose: str
    brick: str
    canvas: str
    foot: str
    foot_text: str
    on_oak: str

    def family(self, name: str) -> QColor:
        """Return the colour of a family of roles, by its value."""
        names = {
            Family.COLOUR.value: self.oak,
            Family.NORMAL.value: self.slate,
            Family.SURFACE.value: self.moss,
            Family.MASK.value: self.plum,
            Family.MESH.value: self.clay,
            Family.ANIMATION.value: self.dusk,
            Family.AUDIO.value: self.teal,
        }
        return QColor(names.get(name, self.other))

    def channel(self, letter: str) -> QColor:
        """Return the colour that marks an output channel; its name always stands beside it."""
        return QColor({"R": self.rose, "G": self.moss, "B": self.slate}.get(letter, self.other))


LIGHT = Tokens(
    linen="#E9E5DC", sheet="#F7F4EE", stripe="#F1EDE5", line="#CFC8BA", ink="#26231F", soft="#6A6256", oak="#9C6B30",
    oak_pale="#E3CFAE", slate="#41607C", moss="#4F6F52", plum="#7A4E6D", other="#756D60",
    clay="#8C5A44", dusk="#5C6B8F", teal="#3E7470", rose="#B4626E", brick="#A33B2A",
    canvas="#7B7B7B", foot="#26231F", foot_text="#F7F4EE", on_oak="#FFFFFF",
)  # fmt: skip
DUSK = Tokens(
    linen="#1D1B18", sheet="#272420", stripe="#2C2925", line="#48423A", ink="#EDE8DE", soft="#AFA696", oak="#C8924F",
    oak_pale="#57432A", slate="#7FA3C6", moss="#8DB592", plum="#BE8FB2", other="#968D7E",
    clay="#CE9A80", dusk="#97A6CC", teal="#7DB5AF", rose="#D68B95", brick="#EC8672",
    canvas="#5C5C5C", foot="#12110F", foot_text="#EDE8DE", on_oak="#1D1B18",
)  # fmt: skip

THEMES = {"light": LIGHT, "dusk": DUSK}


class _Present:
    """The theme in use; painters ask for it each time they paint."""

    tokens = LIGHT


def tokens() -> Tokens:
    """Return the theme in use."""
    return _Present.tokens


def use_theme(name: str) -> None:
    """Take a theme into use: light, dusk, or empty to follow the desktop."""
    if name not in THEMES:
        dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        name = "dusk" if dark else "light"
    _Present.tokens = THEMES[name]
