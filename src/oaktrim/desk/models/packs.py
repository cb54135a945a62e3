"""The packs of a job and those that could be made, a row each; one edit can be on many of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import msgspec
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from oaktrim.core.job.begin import saved, with_begun
from oaktrim.core.job.planner import Planner
from oaktrim.core.makers.layouts import LAYOUTS, Layout
from oaktrim.core.makers.pack.pack import Lane, Pack, pack_size
from oaktrim.core.makers.pack.propose import by_materials, by_names, lane_warnings
from oaktrim.core.makers.registry import of_type
from oaktrim.core.survey.derived import MATERIAL_MARK
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.targets.target import Target
from oaktrim.core.units import change_text, size_text
from oaktrim.desk.session.session import Session

Index = QModelIndex | QPersistentModelIndex
_NOWHERE = QModelIndex()


@dataclass
class PackRow:
    """A pack with where it stands.

    Parameters
    ----------
    made : it is in the job; problems : what is amiss, in sentences
    saves : bytes of texture memory on the watched target; None where it is not known
    """

    pack: Pack
    made: bool
    problems: tuple[str, ...]
    saves: int | None = None


def lane_text(lane: Lane) -> str:
    """Return a lane in a few words."""
    if not lane.feeds:
        return f"fill {lane.fill:g}"
    feed = lane.feeds[0]
    name = feed.source.rsplit("/", 1)[-1].rpartition(".")[0] or feed.source.rsplit("/", 1)[-1]
    words = name + (f" {feed.channel.value}" if feed.channel.value != "R" else "")
    words += ", inverted" if feed.invert else ""
    return words + (f" + {len(lane.feeds) - 1}" if len(lane.feeds) > 1 else "")


class PackModel(QAbstractTableModel):
    """Rows of packs under one layout."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[PackRow] = []
        self.layout_shown: Layout | None = None
        self.facts: dict[str, TextureFacts] = {}
        self._target = ""

    def show_rows(self, rows: Sequence[PackRow], layout: Layout, facts: dict[str, TextureFacts], target: str) -> None:
        """Show other rows."""
        self.beginResetModel()
        self.rows, self.layout_shown, self.facts, self._target = list(rows), layout, facts, target
        self.endResetModel()

    @property
    def places(self) -> list[int]:
        """The channels that have a column."""
        layout = self.layout_shown
        return [] if layout is None else [place for place, slot in enumerate(layout.slots) if slot.name]

    def change(self, rows: Sequence[int], change: Callable[[Pack], Pack]) -> list[PackRow]:
        """Change the packs of some rows and return the rows as they now are."""
        assert self.layout_shown is not None
        changed = []
        for place in rows:
            row = self.rows[place]
            row.pack = change(row.pack)
            warnings = lane_warnings(row.pack, self.layout_shown, self.facts)
            row.problems = tuple(words for mine in warnings.values() for words in mine)
            changed.append(row)
        if rows:
            last = self.columnCount() - 1
            self.dataChanged.emit(self.index(min(rows), 0), self.index(max(rows), last))
        return changed

    def rowCount(self, parent: Index = _NOWHERE) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = _NOWHERE) -> int:
        return 0 if parent.isValid() else 4 + len(self.places)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation is Qt.Orientation.Vertical:
            return None
        count = len(self.places)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if section in (count + 1, count + 2) else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role != Qt.ItemDataRole.DisplayRole or self.layout_shown is None:
            return None
        slots = [self.layout_shown.slots[place].name.capitalize() for place in self.places]
        return ("Pack", *slots, "Size", f"Saves on {self._target}", "")[section]

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid():
            return None
        row, count = self.rows[index.row()], len(self.places)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            figure = index.column() in (count + 1, count + 2)
            side = Qt.AlignmentFlag.AlignRight if figure else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole:
            return "\n".join((row.pack.name, *row.problems))
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if index.column() == 0:
            return ("✓ " if row.made else "") + (row.pack.subject or row.pack.name)
        if index.column() <= count:
            return lane_text(row.pack.lanes[self.places[index.column() - 1]])
        if index.column() == count + 1:
            sizes = [(self.facts[p].width, self.facts[p].height) for p in row.pack.inputs if p in self.facts]
            return size_text(*pack_size(row.pack, sizes))
        if index.column() == count + 2:
            return "" if row.saves is None else change_text(row.saves, gain="")
        return f"▲ {row.problems[0]}" if row.problems else ("made" if row.made else "ready")


def with_lane(pack: Pack, place: int, change: Callable[[Lane], Lane]) -> Pack:
    """Return a pack with one of its lanes changed."""
    red, green, blue, alpha = (change(lane) if at == place else lane for at, lane in enumerate(pack.lanes))
    return msgspec.structs.replace(pack, lanes=(red, green, blue, alpha))


def pack_facts(session: Session) -> dict[str, TextureFacts]:
    """Return the facts of all that can feed a pack, by path: what files hold, and what is made."""
    inventory = session.inventory
    assert inventory is not None
    facts = {texture.path: texture for texture in session.workshop.found.textures}
    return facts | {texture.path: texture for texture in inventory.textures if texture.path in inventory.made}


def pack_rows(
    session: Session,
    layout: Layout,
    by_name: bool,
    patterns: dict[str, str],
    facts: dict[str, TextureFacts],
    drafts: Sequence[PackRow],
) -> list[PackRow]:
    """Return the packs of a layout: problems on top, then what could be made, then what is made.

    Parameters
    ----------
    by_name : sets are told by names, and not by materials first; patterns : how names tell the maps
    drafts : begun by hand or changed, and not made yet
    """
    found, job = session.workshop.found, session.job
    offered = by_names(found, layout, patterns) if by_name else by_materials(found, layout, patterns)
    known = {row.id for row in (*LAYOUTS, *job.layouts)}
    # A pack of a layout that nobody knows any more stands under all of them, so that it can be mended or taken back.
    made = [m for m in of_type(job.makers, Pack) if m.layout == layout.id or m.layout not in known]
    used = {path for pack in made for path in pack.inputs}
    taken = {pack.name for pack in made}
    rows = [row for row in drafts if row.pack.name not in taken]
    taken |= {row.pack.name for row in rows}
    for row in offered:
        named = job.named(row.pack)
        if named.name not in taken and not set(named.inputs) & used:
            rows.append(PackRow(named, False, row.problems))
    refused = {row.path: row.error for row in session.inventory.unmade} if session.inventory is not None else {}
    for pack in made:
        said = [words for mine in lane_warnings(pack, layout, facts).values() for words in mine]
        rows.append(PackRow(pack, True, tuple([refused[pack.name], *said] if pack.name in refused else said)))
    return sorted(rows, key=lambda row: (not row.problems, row.made))


def packs_save(planner: Planner, target: Target, rows: Sequence[PackRow]) -> list[int | None]:
    """Return what each row saves of a target's memory: its sources as they ship less the pack."""
    alone = msgspec.structs.replace(planner.job, makers=())
    before = planner.plan_of(alone, target)
    job = alone
    for row in rows:
        job = (
            msgspec.structs.replace(job, makers=(*job.makers, row.pack))
            if row.made
            else with_begun(job, row.pack, [before])
        )
    after = planner.plan_of(job, target)
    return [saved(before, after, row.pack.name, "memory") for row in rows]


def pack_totals(planner: Planner, targets: Sequence[Target], row: PackRow) -> list[str]:
    """Return what a pack saves on each target, and what it is assigned to, in lines."""
    lines, pack = [], row.pack
    others = tuple(maker for maker in planner.job.makers if maker.name != pack.name)
    without = msgspec.structs.replace(planner.job, makers=others)
    for target in targets:
        before = planner.plan_of(without, target)
        after = planner.plan_of(planner.job if row.made else with_begun(without, pack, [before]), target)
        parts = []
        for line in ("memory", "package"):
            change = saved(before, after, pack.name, line)
            if change is not None:
                # What is not made yet packs as a guess.
                words = change_text(-change, about=line == "package" and not row.made)
                parts.append(f"{words} {line}" if change else f"{line} as before")
        lines.append(f"{target.name}: {', '.join(parts) or 'not made'}")
    if pack.materials:
        more = f" and {len(pack.materials) - 3} more" if len(pack.materials) > 3 else ""
        lines.append(
            f"Assigned to {', '.join(name.replace(MATERIAL_MARK, ' > ') for name in pack.materials[:3])}{more}"
        )
    return lines
