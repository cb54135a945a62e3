"""What eats the budget, as trees: by owner, by folder, or by family; the costs are filled in for any plan and line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Family

Places = NDArray[np.int64]


class Grouping(Enum):
    """How a breakdown is made."""

    OWNER = "owner"
    FOLDER = "folder"
    FAMILY = "family"


@dataclass
class Breakdown:
    """A tree of boards, the root first, every board after its parent; its costs are asked for once it is whole.

    Parameters
    ----------
    names, kinds : of each board; a kind is scene, object, material, folder, family, role, or asset
    parent : place of the board above, -1 at the root
    asset : of a leaf, the place among all assets (textures, then what is passed through); -1 elsewhere
    weight : of a leaf, the part of the asset's cost that stands here: an asset of n owners is a leaf n times
    """

    names: list[str] = field(default_factory=lambda: ["All"])
    kinds: list[str] = field(default_factory=lambda: ["all"])
    parent: list[int] = field(default_factory=lambda: [-1])
    asset: list[int] = field(default_factory=lambda: [-1])
    weight: list[float] = field(default_factory=lambda: [0.0])
    _inner: dict[tuple[int, str, str], int] = field(default_factory=dict, repr=False)

    def board(self, parent: int, name: str, kind: str) -> int:
        """Return the board of this name below another, made where it is not there yet."""
        key = (parent, kind, name)
        if key not in self._inner:
            self._inner[key] = self._append(parent, name, kind, -1, 0.0)
        return self._inner[key]

    def leaf(self, parent: int, name: str, asset: int, weight: float) -> None:
        """Put an asset, or a part of it, below a board."""
        self._append(parent, name, "asset", asset, weight)

    def _append(self, parent: int, name: str, kind: str, asset: int, weight: float) -> int:
        self.names.append(name)
        self.kinds.append(kind)
        self.parent.append(parent)
        self.asset.append(asset)
        self.weight.append(weight)
        return len(self.names) - 1

    def costs(self, values: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return the cost of every board, from the cost of every asset; the root's is the sum of them all."""
        leaves, assets, weights, levels = self._sums
        found = np.zeros(len(self.names))
        found[leaves] = values[assets] * weights
        for boards, parents in levels:
            found += np.bincount(parents, found[boards], minlength=len(found))
        return found

    @cached_property
    def _sums(self) -> tuple[Places, Places, NDArray[np.float64], list[tuple[Places, Places]]]:
        """The leaves, their assets and weights, and the boards of each level with their parents, the deepest first."""
        parent, asset = np.array(self.parent), np.array(self.asset)
        leaves = np.flatnonzero(asset >= 0)
        depth = [0] * len(parent)
        for board, above in enumerate(self.parent[1:], 1):
            depth[board] = depth[above] + 1
        levels = [np.flatnonzero(np.array(depth) == level) for level in range(max(depth), 0, -1)]
        return leaves, asset[leaves], np.array(self.weight)[leaves], [(at, parent[at]) for at in levels]

    def children(self) -> list[list[int]]:
        """Return the boards below each board."""
        below: list[list[int]] = [[] for _ in self.names]
        for board in range(1, len(self.names)):
            below[self.parent[board]].append(board)
        return below


def grouping_for(inventory: Inventory, memory: NDArray[np.int64]) -> Grouping:
    """Return what to begin with: by owner, where at least half of the memory has one, else by folder."""
    owned = np.zeros(len(inventory.textures), np.bool_)
    owned[list(inventory.ownership.owners)] = True
    return Grouping.OWNER if int(memory[owned].sum()) * 2 >= int(memory.sum()) else Grouping.FOLDER


def asset_costs(plan: Plan, line: str) -> NDArray[np.int64]:
    """Return what each asset adds to a line: the textures, then what is passed through."""
    rest = plan.others_line(line)
    return np.concatenate([plan.line(line), rest])


def _by_owner(inventory: Inventory, tree: Breakdown) -> None:
    """Scene, object, material, texture; a texture that several use is shared out among them, and so counts once."""
    ownership = inventory.ownership
    scenes = [tree.board(0, model.scene or model.path.rsplit("/", 1)[-1], "scene") for model in ownership.models]
    for row, texture in enumerate(inventory.textures):
        name = inventory.names[row]
        places: dict[tuple[int, str, str], None] = {}
        for owner in ownership.owners.get(row, ()):
            for wearer in ownership.objects_of(owner) or ["not in the scene"]:
                places[owner.model, wearer, ownership.material(owner).name] = None
        for model, wearer, material in places:
            board = tree.board(tree.board(scenes[model], wearer, "object"), material, "material")
            tree.leaf(board, name, row, 1 / len(places))
        if not places:
            folder = texture.path.rpartition("/")[0] or "root"
            board = tree.board(tree.board(0, "no owner", "scene"), folder, "object")
            tree.leaf(tree.board(board, inventory.roles[row].role.label, "material"), name, row, 1.0)
    by_path = {model.path: board for model, board in zip(ownership.models, scenes, strict=True)}
    for place, other in enumerate(inventory.others, len(inventory.textures)):
        above = by_path.get(other.file)
        scene = above if above is not None else tree.board(0, "no owner", "scene")
        tree.leaf(tree.board(scene, other.family.value, "object"), other.name, place, 1.0)


def _by_folder(inventory: Inventory, tree: Breakdown) -> None:
    paths = [t.path for t in inventory.textures] + [row.path for row in inventory.others]
    for place, path in enumerate(paths):
        board, (*folders, name) = 0, path.split("/")
        for folder in folders:
            board = tree.board(board, folder, "folder")
        tree.leaf(board, name, place, 1.0)


def _by_family(inventory: Inventory, tree: Breakdown) -> None:
    families = {family: tree.board(0, family.value, "family") for family in Family}
    for row, guess in enumerate(inventory.roles):
        board = tree.board(families[guess.role.family], guess.role.label, "role")
        tree.leaf(board, inventory.names[row], row, 1.0)
    for place, other in enumerate(inventory.others, len(inventory.textures)):
        tree.leaf(families[other.family], other.name, place, 1.0)


_MAKERS: dict[Grouping, Callable[[Inventory, Breakdown], None]] = {
    Grouping.OWNER: _by_owner,
    Grouping.FOLDER: _by_folder,
    Grouping.FAMILY: _by_family,
}


def breakdown(inventory: Inventory, grouping: Grouping) -> Breakdown:
    """Return an inventory as a tree of boards."""
    tree = Breakdown()
    _MAKERS[grouping](inventory, tree)
    return tree
