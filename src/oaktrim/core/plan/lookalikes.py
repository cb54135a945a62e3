"""Groups of look-alikes whose role is guessed or open: one question each, the largest first; an answer is a pattern of the job."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.guesses import Content, content_of, pattern_of
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Certainty, Role, RolePattern, bare_name, role_guesser

_OPEN = (Certainty.GUESSED, Certainty.UNKNOWN)
# So many of one name or ending are asked of together, wherever they are.
_ALIKE = 3
_LONGEST = 199
_LIKELY: dict[Content, tuple[Role, ...]] = {
    Content.COLOUR: (Role.BASE_COLOUR, Role.OVERLAY, Role.ENVIRONMENT, Role.EMISSIVE),
    Content.CUT_OUT: (Role.BASE_COLOUR, Role.OVERLAY, Role.MASK),
    Content.GREY: (Role.HEIGHT, Role.MASK, Role.ROUGHNESS, Role.OCCLUSION, Role.BASE_COLOUR),
    Content.TWO_TONE: (Role.MASK, Role.METALNESS, Role.EMISSIVE, Role.GLYPHS, Role.BASE_COLOUR),
    Content.SHAPE: (Role.MASK, Role.OVERLAY, Role.GLYPHS, Role.BASE_COLOUR),
    Content.DARK: (Role.EMISSIVE, Role.MASK, Role.METALNESS, Role.BASE_COLOUR),
    Content.VECTORS: (Role.NORMAL, Role.BASE_COLOUR),
    Content.VALUES: (Role.SURFACE, Role.MASK, Role.BASE_COLOUR),
    Content.RAMP: (Role.LOOKUP, Role.BASE_COLOUR),
    Content.PLAIN: (Role.BASE_COLOUR, Role.MASK, Role.SURFACE),
}
_PICTURES = {
    Content.COLOUR: "coloured picture{s}", Content.CUT_OUT: "coloured picture{s} with clear parts",
    Content.GREY: "grey picture{s}", Content.TWO_TONE: "black and white picture{s}", Content.SHAPE: "shape{s} in one colour",
    Content.DARK: "nearly black picture{s}", Content.VECTORS: "normal map{s}", Content.VALUES: "map{s} of packed values",
    Content.RAMP: "ramp{s}", Content.PLAIN: "picture{s} of one colour",
}  # fmt: skip


@dataclass(frozen=True)
class LookAlikes:
    """Textures that are asked of together.

    Parameters
    ----------
    pattern : of names or of paths, that may fit them alone; see `pattern_for`
    where : how they are called or where they lie, in words
    paths : of the textures, those that cost most first
    role : what they are taken for; UNKNOWN where nothing tells
    memory : bytes on the target
    likely : roles to answer with
    """

    pattern: str
    where: str
    paths: tuple[str, ...]
    content: Content
    role: Role
    reason: str
    memory: int
    likely: tuple[Role, ...]

    @property
    def words(self) -> str:
        """What they are: `214 grey pictures named h`."""
        count = len(self.paths)
        return f"{count:,} {_PICTURES[self.content].format(s='' if count == 1 else 's')} {self.where}"

    @property
    def question(self) -> str:
        """What is asked of them."""
        named = [role.label.lower() for role in self.likely[:2]]
        return f"{self.words}: {', '.join(named)}, or something else?"


@dataclass(frozen=True)
class Known:
    """Of the memory of all textures on a target, how much has which kind of role, bytes."""

    told: int
    guessed: int
    unknown: int

    @property
    def total(self) -> int:
        """All of it."""
        return self.told + self.guessed + self.unknown


def known(plan: Plan) -> Known:
    """Return how much of the memory of a plan's textures has a role that is told, guessed or not known."""
    memory = plan.line("memory")
    kinds = np.array(
        [_OPEN.index(g.certainty) + 1 if g.certainty in _OPEN else 0 for g in plan.inventory.roles], np.int64
    )
    told, guessed, unknown = (int(memory[kinds == kind].sum()) for kind in range(3))
    return Known(told, guessed, unknown)


def look_alikes(plan: Plan) -> list[LookAlikes]:
    """Return the groups of textures whose role is guessed or not known, those that cost most first."""
    inventory, memory = plan.inventory, plan.line("memory")
    rows = [row for row, guess in enumerate(inventory.roles) if guess.certainty in _OPEN]
    names, folders = defaultdict(list), defaultdict(list)
    for row in rows:
        names[pattern_of(bare_name(inventory.textures[row].path))].append(row)
    for pattern, mine in list(names.items()):
        if len(mine) < _ALIKE:
            for row in names.pop(pattern):
                folders[inventory.textures[row].path.rpartition("/")[0]].append(row)
    found = []
    for pattern, mine in names.items():
        found += _by_content(plan, memory, mine, pattern, f"named {pattern}")
    for folder, mine in _merged(folders).items():
        found += _by_content(plan, memory, mine, f"{folder}/*" if folder else "", f"in {folder or 'the root'}")
    return sorted(found, key=lambda group: -group.memory)


def _merged(folders: dict[str, list[int]]) -> dict[str, list[int]]:
    """Return the textures by folder, those of folders that hold only a few by the one above."""
    found: dict[str, list[int]] = defaultdict(list, folders)
    for folder in sorted(folders, key=lambda path: -path.count("/")):
        here = folder
        while here and len(found[here]) < _ALIKE:
            above = here.rpartition("/")[0]
            found[above] += found.pop(here)
            here = above
    return {folder: rows for folder, rows in found.items() if rows}


def _by_content(plan: Plan, memory: np.ndarray, rows: Iterable[int], pattern: str, where: str) -> list[LookAlikes]:
    """Return a group for each content and guess among some rows; a pattern stands for them only where there is but one."""
    inventory = plan.inventory
    kinds: dict[tuple[Content, Role], list[int]] = defaultdict(list)
    for row in rows:
        kinds[content_of(inventory.textures[row]), inventory.roles[row].role].append(row)
    found = []
    for (content, role), mine in kinds.items():
        mine.sort(key=lambda row: -int(memory[row]))
        guess = inventory.roles[mine[0]]
        likely = tuple(dict.fromkeys(([role] if role is not Role.UNKNOWN else []) + list(_LIKELY[content])))
        paths = tuple(inventory.textures[row].path for row in mine)
        found.append(
            LookAlikes(
                pattern.lower() if len(kinds) == 1 else "",
                where,
                paths,
                content,
                role,
                guess.reason,
                int(memory[mine].sum()),
                likely,
            )
        )
    return found


def pattern_for(inventory: Inventory, group: LookAlikes) -> str:
    """Return the pattern of names or of paths that fits all of a group and nothing else that is open, empty where none does."""
    if not group.pattern or len(group.pattern) > _LONGEST or re.search(r"[\[\]?]", group.pattern):
        return ""
    mine = set(group.paths)
    for pattern in (group.pattern, f"{group.pattern}*"):
        guess = role_guesser((RolePattern(pattern, Role.BASE_COLOUR),))
        fits = {
            texture.path
            for texture, known in zip(inventory.textures, inventory.roles, strict=True)
            if known.certainty in _OPEN and guess(texture.path).role is not Role.UNKNOWN
        }
        if fits == mine:
            return pattern
    return ""
