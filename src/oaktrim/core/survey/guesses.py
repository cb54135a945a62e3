"""Roles guessed where neither a material nor a name tells them: from pixels, from what stands beside a picture, from folders."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

from oaktrim.core.pixels.traits import Traits
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.roles import Certainty, Role, RoleGuess, bare_name

# So many pictures of one name, or of one ending, tell together what each of them is; of these so many have to agree.
_ALIKE, _AGREE = 4, 0.65
# The same of a whole folder, for those of its pictures that say nothing themselves.
_FOLDER, _FOLDER_AGREE = 8, 0.8
_FACES = re.compile(
    r"(?:^|_)(ft|bk|lf|rt|up|dn|front|back|left|right|top|bottom|posx|negx|posy|negy|posz|negz|px|nx|py|ny|pz|nz"
    r"|north|south|east|west|nord|est|[nestwb]|[fblrud])$"
)
_FACES_OF_A_CUBE = 5
_BASE_ENDINGS = ("", "_a", "_d", "_c", "_dif", "_diff", "_diffuse", "_base", "_albedo", "_color", "_colour")
# Words of folders that say what is in them.
_FOLDERS = {
    **dict.fromkeys(("gui", "ui", "hud", "icons", "icon", "menu", "menus", "cursors", "interface"), Role.OVERLAY),
    **dict.fromkeys(("sky", "skies", "skybox", "skyboxes", "skydome"), Role.ENVIRONMENT),
    **dict.fromkeys(("font", "fonts", "glyphs"), Role.GLYPHS),
    **dict.fromkeys(("lut", "luts"), Role.LOOKUP),
}


# Of a picture, that has to be black, or black and white, times 255.
_NEARLY_ALL, _MOSTLY = 215, 205
# Beside a picture whose name it has and more: a coloured one whose channels go so far apart holds values.
_APART = 150


class Content(Enum):
    """What a picture's pixels show."""

    COLOUR = "colour"
    CUT_OUT = "colour with clear parts"
    GREY = "grey"
    TWO_TONE = "black and white"
    SHAPE = "one colour with clear parts"
    DARK = "nearly black"
    VECTORS = "normal map"
    VALUES = "packed values"
    RAMP = "ramp"
    PLAIN = "one colour"


# Sizes that tables of colours have: slices of a cube beside each other.
_TABLES = ((256, 16), (1024, 32), (4096, 64))
# What a picture of such content is taken for where nothing else is known; the rest is asked.
_LIKELY = {
    Content.COLOUR: (Role.BASE_COLOUR, "its pixels are those of a photograph or a painting"),
    Content.CUT_OUT: (Role.BASE_COLOUR, "it is a coloured picture with clear parts"),
    Content.TWO_TONE: (Role.MASK, "nearly all of it is black or white"),
    Content.VECTORS: (Role.NORMAL, "its pixels are directions that point up on average"),
    Content.VALUES: (Role.SURFACE, "its channels go their own ways, as packed values do"),
    Content.RAMP: (Role.LOOKUP, "it is a few pixels wide and a ramp"),
}


def content_of(facts: TextureFacts) -> Content:
    """Return what a picture's pixels show."""
    traits = Traits.of(facts.traits)
    low, high = sorted(facts.size)
    if facts.constant:
        return Content.PLAIN
    if (low <= 4 and high >= 16) or ((high, low) in _TABLES and traits.chroma > 60):
        return Content.RAMP
    if facts.normal or _points_up(facts, traits):
        return Content.VECTORS
    with_alpha = traits.clear > 8
    if with_alpha and traits.plain:
        return Content.SHAPE
    if facts.grey or traits.chroma <= 3:
        return _grey(traits, with_alpha)
    if traits.solid == 255 and traits.chroma > 12 and _is_packed(facts, traits):
        return Content.VALUES
    return Content.CUT_OUT if with_alpha else Content.COLOUR


def _grey(traits: Traits, with_alpha: bool) -> Content:
    if traits.dark > _NEARLY_ALL:
        return Content.DARK
    if traits.dark + traits.bright > _MOSTLY:
        return Content.TWO_TONE
    return Content.CUT_OUT if with_alpha else Content.GREY


def _points_up(facts: TextureFacts, traits: Traits) -> bool:
    """Say whether a picture's mean is nearly straight up, as that of a normal map whose vectors have lost their length."""
    if len(facts.means) < 64 or facts.grey or traits.blue_apart < 40:
        return False
    cells = facts.means
    red, green, blue = (sum(cells[place::4]) / 16 for place in range(3))
    return abs(red - 128) < 20 and abs(green - 128) < 20 and blue > 185 and traits.agreement < 200


def _is_packed(facts: TextureFacts, traits: Traits) -> bool:
    """Say whether channels go their own ways, and blue says only yes or no, as metalness does, or green nothing at all."""
    no_green = len(facts.means) >= 64 and max(facts.means[1::4]) < 8
    return traits.agreement < 176 and (traits.blue_ends > 150 or no_green)


@dataclass(frozen=True, slots=True)
class _Open:
    """A texture whose role is still open."""

    facts: TextureFacts
    content: Content
    name: str
    folder: str


def guessed(textures: Sequence[TextureFacts], roles: Sequence[RoleGuess]) -> list[RoleGuess]:
    """Return roles with those guessed that are not known; what nothing tells stays unknown.

    Parameters
    ----------
    roles : of the textures, as materials, names and people tell them
    """
    found = list(roles)
    rows: dict[int, _Open] = {}
    for place, guess in enumerate(roles):
        if guess.role is Role.UNKNOWN:
            facts = textures[place]
            folder = facts.path.rpartition("/")[0]
            rows[place] = _Open(facts, content_of(facts), bare_name(facts.path), folder)
    if rows:
        first = {place: _alone(row) for place, row in rows.items()}
        _with_base(textures, roles, rows, first)
        _together(rows, first)
        _folders(rows, first)
        for place, taken in first.items():
            if taken is not None:
                found[place] = taken
    _cubes(textures, found)
    return found


def _alone(row: _Open) -> RoleGuess | None:
    """Return what a picture is taken for by its pixels and by the words of its folders."""
    words = row.folder.lower().split("/")
    role = next((_FOLDERS[word] for word in reversed(words) if word in _FOLDERS), None)
    if role is not None and row.content not in (Content.VECTORS, Content.VALUES):
        return RoleGuess(role, "its folder is called so", Certainty.GUESSED)
    if row.content in (Content.COLOUR, Content.CUT_OUT) and _is_panorama(row.facts):
        return RoleGuess(Role.ENVIRONMENT, "it holds light, and is twice as wide as high", Certainty.GUESSED)
    likely = _LIKELY.get(row.content)
    return None if likely is None else RoleGuess(*likely, Certainty.GUESSED)


def _is_panorama(facts: TextureFacts) -> bool:
    return facts.floating and facts.width == 2 * facts.height and facts.width >= 512


def _cubes(textures: Sequence[TextureFacts], roles: list[RoleGuess]) -> None:
    """Take the faces of a cube for a sky, where only pixels and names say otherwise."""
    faces: dict[tuple[str, tuple[int, int], str], list[int]] = defaultdict(list)
    for place, guess in enumerate(roles):
        if guess.certainty in (Certainty.GUESSED, Certainty.NAMED, Certainty.UNKNOWN):
            name = bare_name(textures[place].path)
            if match := _FACES.search(name):
                folder = textures[place].path.rpartition("/")[0]
                faces[folder, textures[place].size, name[: match.start()]].append(place)
    for places in faces.values():
        if len(places) >= _FACES_OF_A_CUBE:
            for place in places:
                roles[place] = RoleGuess(Role.ENVIRONMENT, "it is one of the faces of a cube", Certainty.GUESSED)


def _with_base(
    textures: Sequence[TextureFacts],
    roles: Sequence[RoleGuess],
    rows: Mapping[int, _Open],
    first: dict[int, RoleGuess | None],
) -> None:
    """Tell pictures that are called like a coloured one beside them, with more to their names, by what they hold."""
    coloured = set()
    for place, guess in enumerate(roles):
        taken = first.get(place) or guess
        if taken.role is Role.BASE_COLOUR:
            path = textures[place].path
            coloured.add(f"{path.rpartition('/')[0]}/{bare_name(path)}")
    for place, row in rows.items():
        role = _beside(row)
        if role is not None and _has_base(row, coloured):
            reason = f"{role[1]}, and stands beside a picture whose name it has and more"
            first[place] = RoleGuess(role[0], reason, Certainty.GUESSED)


def _has_base(row: _Open, coloured: set[str]) -> bool:
    """Say whether a coloured picture in the same folder is called like the beginning of a name."""
    name = row.name
    while (cut := name.rfind("_")) > 0:
        name = name[:cut]
        if any(f"{row.folder}/{name}{ending}" in coloured for ending in _BASE_ENDINGS):
            return True
    return False


def _beside(row: _Open) -> tuple[Role, str] | None:
    """Return what a picture is that stands beside the colour of the same material."""
    if row.content is Content.GREY:
        return Role.SURFACE, "it is grey"
    if row.content is Content.DARK:
        return Role.EMISSIVE, "it is nearly black"
    if row.content is Content.SHAPE:
        return Role.MASK, "it is a shape"
    traits = Traits.of(row.facts.traits)
    if row.content is Content.COLOUR and traits.solid == 255 and traits.agreement < _APART:
        return Role.SURFACE, "its channels go their own ways"
    return None


def _together(rows: Mapping[int, _Open], first: dict[int, RoleGuess | None]) -> None:
    """Let pictures of one name in many folders, or of one ending, be what most of them are."""
    sets: dict[str, list[int]] = defaultdict(list)
    for place, row in rows.items():
        sets[pattern_of(row.name)].append(place)
    for pattern, places in sets.items():
        folders = {rows[place].folder for place in places}
        if len(places) < _ALIKE or (not pattern.startswith("*") and len(folders) < _ALIKE):
            continue
        role = _most([first[place] for place in places], _AGREE)
        if role is not None:
            for place in places:
                guess = first[place]
                if guess is None or guess.role is not role:
                    first[place] = RoleGuess(role, f"most pictures called {pattern} are", Certainty.GUESSED)


def pattern_of(name: str) -> str:
    """Return the pattern of names that a picture belongs to: its last word, or all of its name without trailing digits."""
    name = name.rstrip("0123456789").rstrip("_") or name
    cut = name.rfind("_")
    return f"*{name[cut:]}" if 0 < cut < len(name) - 1 else name


def _folders(rows: Mapping[int, _Open], first: dict[int, RoleGuess | None]) -> None:
    """Take what says nothing itself for what nearly all beside it are."""
    sets: dict[str, list[int]] = defaultdict(list)
    for place, row in rows.items():
        sets[row.folder].append(place)
    for places in sets.values():
        silent = [place for place in places if first[place] is None]
        if len(places) < _FOLDER or not silent:
            continue
        role = _most([first[place] for place in places], _FOLDER_AGREE)
        if role is not None:
            for place in silent:
                first[place] = RoleGuess(role, "nearly all beside it are", Certainty.GUESSED)


def _most(guesses: Sequence[RoleGuess | None], share: float) -> Role | None:
    """Return the role that so great a share of guesses have, or None."""
    counts = Counter(guess.role for guess in guesses if guess is not None)
    if not counts:
        return None
    role, count = counts.most_common(1)[0]
    return role if count >= share * len(guesses) else None
