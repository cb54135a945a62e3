"""The ledger's table: one row an asset, filtered, sorted and grouped by columns of numbers, so that thousands stay quick."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, QSize, Qt
from PySide6.QtGui import QColor, QFont, QPixmap

from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.paste import FORMAT, ROLE, SIZE
from oaktrim.core.plan.query import Assets
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundrules import SoundRecipe
from oaktrim.core.sounds.codecs import CODECS
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.models.thumbnails import SIDE, Thumbnails
from oaktrim.desk.session.session import Session

Index = QModelIndex | QPersistentModelIndex
_ROOT = QModelIndex()
GROUPS = ("", "folder", "family", "role", "format", "material")


@dataclass(frozen=True)
class Column:
    """One column: its head, what it says of an asset, what it sorts by, and whether it is a figure.

    `optional` columns are there to be chosen; the others are shown from the start.
    """

    head: str
    text: Callable[[LedgerModel, int], str]
    key: Callable[[LedgerModel], NDArray[Any]]
    figure: bool = False
    optional: bool = False


# What stands in soft text after a cell's own.
ASIDE = Qt.ItemDataRole.UserRole + 1


class LedgerModel(QAbstractTableModel):
    """The assets that pass the filter, in the order of the column chosen, with a line over each group."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.thumbnails = Thumbnails(session.cache, self)
        self.thumbnails.ready.connect(self._refresh_row)
        # Assets; -1 - g stands for the line over group g.
        self._shown: NDArray[np.int64] = np.zeros(0, np.int64)
        self._place: NDArray[np.int64] = np.zeros(0, np.int64)
        self._heads: list[tuple[str, NDArray[np.int64]]] = []
        self._sorted_by, self._descending = 5, True
        self._keep: Callable[[], NDArray[np.bool_]] | None = None
        self._group = ""
        self._assets: Assets | None = None

    # Rows

    def set_filter(self, keep: Callable[[], NDArray[np.bool_]] | None) -> None:
        """Show only the assets that `keep` marks; None shows all."""
        self._keep = keep
        self._arrange()

    def set_group(self, group: str) -> None:
        """Put assets of one folder, family, role, format or material together; empty for no groups."""
        self._group = group
        self._arrange()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sorted_by, self._descending = column, order == Qt.SortOrder.DescendingOrder
        self._arrange()

    def _arrange(self) -> None:
        if self._session.inventory is None:
            return
        self.beginResetModel()
        self._assets = None
        count = self._session.asset_count
        marked = np.ones(count, np.bool_) if self._keep is None else self._keep()
        key = COLUMNS[self._sorted_by].key(self)
        order = np.argsort(key[::-1] if self._descending else key, kind="stable")
        # Equal rows keep the order of their paths, whichever way the column runs.
        order = (count - 1 - order)[::-1] if self._descending else order
        rows = order[marked[order]].astype(np.int64)
        self._heads = []
        self._shown = self._grouped(rows) if self._group else rows
        self._place = np.full(count, -1, np.int64)
        mine = self._shown >= 0
        self._place[self._shown[mine]] = np.flatnonzero(mine)
        self.endResetModel()

    def _grouped(self, rows: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the rows with a line over each group, the groups in the order of their first rows."""
        names = self.assets.texts(self._group)
        groups: dict[str, list[int]] = {}
        for row in rows.tolist():
            groups.setdefault(names[row].split("\n")[0] or "none", []).append(row)
        shown: list[int] = []
        for name, members in groups.items():
            self._heads.append((name, np.array(members, np.int64)))
            shown += [-len(self._heads), *members]
        return np.array(shown, np.int64)

    def recount(self) -> None:
        """Show other costs for the same rows; the order stays until a head is clicked."""
        self._assets = None
        if len(self._shown):
            last = self.index(len(self._shown) - 1, len(COLUMNS) - 1)
            self.dataChanged.emit(self.index(0, 0), last, [Qt.ItemDataRole.DisplayRole])

    def row_at(self, place: int) -> int:
        """Return the asset at a place in the table, or a number under 0 for the line over a group."""
        return int(self._shown[place])

    def place_of(self, row: int) -> int | None:
        """Return the place of an asset, or None where it is filtered out."""
        place = int(self._place[row]) if 0 <= row < len(self._place) else -1
        return place if place >= 0 else None

    def places_of(self, rows: Sequence[int]) -> NDArray[np.int64]:
        """Return the places of assets, in order; those that are filtered out are passed over."""
        asked = np.asarray(rows, np.int64)
        places = self._place[asked[asked < len(self._place)]]
        return np.sort(places[places >= 0])

    def _refresh_row(self, row: int) -> None:
        place = self.place_of(row)
        if place is not None:
            self.dataChanged.emit(self.index(place, 0), self.index(place, 0), [Qt.ItemDataRole.DecorationRole])

    # What the columns ask for

    @property
    def session(self) -> Session:
        return self._session

    @property
    def inventory(self) -> Inventory:
        assert self._session.inventory is not None
        return self._session.inventory

    @property
    def assets(self) -> Assets:
        if self._assets is None:
            self._assets = self._session.assets()
        return self._assets

    @property
    def after(self) -> Plan:
        return self._session.plan()

    @property
    def now(self) -> Plan:
        return self._session.plan(cut=False)

    def copied(self, places: list[int]) -> str:
        """Return rows as tab-separated text, heads first; bytes as plain numbers."""
        lines = ["\t".join(column.head for column in COLUMNS)]
        keys = {column.head: column.key(self) for column in COLUMNS if column.figure}
        for row in (self.row_at(place) for place in places):
            if row >= 0:
                cells = [str(int(keys[c.head][row])) if c.figure else c.text(self, row) for c in COLUMNS]
                lines.append("\t".join(cells))
        return "\n".join(lines)

    # Qt's questions

    def rowCount(self, parent: Index = _ROOT) -> int:
        return 0 if parent.isValid() else len(self._shown)

    def columnCount(self, parent: Index = _ROOT) -> int:
        return 0 if parent.isValid() else len(COLUMNS)

    def flags(self, index: Index) -> Qt.ItemFlag:
        head = index.isValid() and index.row() < len(self._shown) and self._shown[index.row()] < 0
        return Qt.ItemFlag.ItemIsEnabled if head else super().flags(index)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or not 0 <= section < len(COLUMNS):
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section].head
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if COLUMNS[section].figure else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or index.row() >= len(self._shown):
            return None
        row, column = int(self._shown[index.row()]), COLUMNS[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.figure else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if row < 0:
            return self._head_data(-1 - row, index.column(), column, role)
        if role == Qt.ItemDataRole.DisplayRole:
            return column.text(self, row)
        if role in (ASIDE, Qt.ItemDataRole.DecorationRole):
            return None if index.column() else self._thumbnail(row) if role != ASIDE else self._folder_aside(row)
        if role == Qt.ItemDataRole.ForegroundRole:
            return QColor(tokens().soft) if column.head in ("Source", "Now") else None
        if role == Qt.ItemDataRole.FontRole and column.head == "After":
            return _bold()
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._tip(row, column)
        return None

    def _head_data(self, group: int, place: int, column: Column, role: int) -> Any:
        name, members = self._heads[group]
        if role == Qt.ItemDataRole.FontRole:
            return _bold()
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if place == 0:
            return f"{name}  ·  {len(members)}"
        return bytes_text(int(column.key(self)[members].sum())) if column.figure else ""

    def _folder_aside(self, row: int) -> str | None:
        """Return the folder of a texture whose name others have, too."""
        names = self.inventory.names
        twice = row < len(names) and names[row] in self.inventory.shared_names
        return self._session.asset_path(row).rpartition("/")[0] if twice else None

    def _thumbnail(self, row: int) -> Any:
        textures = len(self.inventory.textures)
        if row >= textures:
            mark = QPixmap(SIDE, SIDE)
            mark.fill(tokens().family(self.inventory.others[row - textures].family.value))
            return mark
        found = self.thumbnails.of(row)
        if found is None:
            blank = QPixmap(SIDE, SIDE)
            blank.fill(QColor(tokens().line))
            return blank
        return found.scaled(QSize(SIDE, SIDE), Qt.AspectRatioMode.IgnoreAspectRatio)

    def _tip(self, row: int, column: Column) -> str:
        textures = self.inventory.textures
        if column.figure:
            return f"{int(column.key(self)[row]):,} bytes"
        path = self._session.asset_path(row)
        if column.head == "Findings":
            return "\n".join(f.message for f in self._session.findings_about(path))
        if row >= len(textures):
            return self.inventory.others[row - len(textures)].about
        if column.head == ROLE:
            return f"{self.inventory.roles[row].reason} ({self.inventory.roles[row].certainty.value})"
        return path


def _bold() -> QFont:
    font = QFont()
    font.setPixelSize(12)
    font.setBold(True)
    return font


def _either(
    texture: Callable[[LedgerModel, int], str], sound: Callable[[LedgerModel, SoundRecipe], str]
) -> Callable[[LedgerModel, int], str]:
    """Return what says something of textures, and something of sounds."""

    def text(model: LedgerModel, row: int) -> str:
        if row < len(model.inventory.textures):
            return texture(model, row)
        recipe = model.after.others.recipes.get(model.session.asset_path(row))
        return "" if recipe is None else sound(model, recipe)

    return text


def _role(model: LedgerModel, row: int) -> str:
    textures = len(model.inventory.textures)
    if row < textures:
        return model.inventory.roles[row].role.label
    recipe = model.after.others.recipes.get(model.session.asset_path(row))
    return model.inventory.others[row - textures].family.value.capitalize() if recipe is None else recipe.role.label


def _roles(model: LedgerModel) -> NDArray[Any]:
    return np.array([_role(model, row) for row in range(model.session.asset_count)])


def _source(model: LedgerModel, row: int) -> str:
    texture = model.inventory.textures[row]
    return size_text(texture.width, texture.height)


def _heard(model: LedgerModel, recipe: SoundRecipe) -> str:
    before = model.now.others.recipes[recipe.path]
    return f"{before.rate / 1000:g} kHz"


def _heard_after(_: LedgerModel, recipe: SoundRecipe) -> str:
    return f"{recipe.rate / 1000:g} kHz"


def _ships(model: LedgerModel, row: int) -> str:
    footprint = model.after.footprint
    mark = " ✎" if model.after.overruled[row] or model.after.format_overruled[row] else ""
    return size_text(int(footprint.width[row]), int(footprint.height[row])) + mark


def _format(model: LedgerModel, row: int) -> str:
    label = FORMATS[ORDER[model.after.formats[row]]].label
    return f"{label} ▲" if model.after.footprint.expanded[row] else label


def _codec(model: LedgerModel, recipe: SoundRecipe) -> str:
    settings = recipe.settings
    return (
        recipe.path.rsplit(".", 1)[-1].upper() if settings is None else CODECS[settings.codec].words(settings.quality)
    )


def _signs(model: LedgerModel, row: int) -> str:
    count = model.assets.counts[model.session.asset_path(row)]
    return f"! {count}" if count else ""


def _padded(values: Callable[[LedgerModel], NDArray[Any]]) -> Callable[[LedgerModel], NDArray[Any]]:
    return lambda m: m.assets.padded(values(m))


def _number(name: str) -> Callable[[LedgerModel], NDArray[Any]]:
    return lambda m: m.assets.numbers(name)


def _bytes(key: Callable[[LedgerModel], NDArray[Any]]) -> Callable[[LedgerModel, int], str]:
    return lambda m, row: bytes_text(int(key(m)[row]))


def _memory(plan: Callable[[LedgerModel], Plan]) -> Callable[[LedgerModel, int], str]:
    def text(model: LedgerModel, row: int) -> str:
        textures, found = len(model.inventory.textures), plan(model)
        if row < textures:
            return bytes_text(int(found.footprint.memory[row]))
        heard = model.session.asset_path(row) in found.others.recipes
        return bytes_text(int(found.others.sounds[row - textures])) if heard else ""

    return text


def _memories(plan: Callable[[LedgerModel], Plan]) -> Callable[[LedgerModel], NDArray[Any]]:
    return lambda m: m.assets.padded(plan(m).footprint.memory, plan(m).others_line("sounds"))


def _package(model: LedgerModel, row: int) -> str:
    textures = len(model.inventory.textures)
    if row < textures:
        return bytes_text(int(model.after.package[row]))
    return bytes_text(int(model.after.others_line("package")[row - textures]))


def _fit(model: LedgerModel, row: int) -> str:
    fit, demand = float(model.assets.numbers("fit")[row]), model.after.demand
    if np.isnan(fit) or demand is None:
        return "unseen" if demand is not None and row < len(demand.unseen) and demand.unseen[row] else ""
    words = f"{int(fit):+d}".replace("-", "−") if fit else "fits"
    return f"about {words}" if demand.estimated[row] else words


def _wanted(model: LedgerModel, row: int) -> str:
    wanted = float(model.assets.numbers("wanted")[row])
    return "" if np.isnan(wanted) else f"{wanted:,.0f}"


def _seen(model: LedgerModel, row: int) -> str:
    pixels = float(model.assets.numbers("seen")[row])
    return "" if np.isnan(pixels) else f"{int(pixels):,} px"


def _name(model: LedgerModel, row: int) -> str:
    names = model.inventory.names
    return names[row] if row < len(names) else model.inventory.others[row - len(names)].name


COLUMNS: tuple[Column, ...] = (
    Column("Texture", _name, lambda m: np.array(m.assets.paths)),
    Column(ROLE, _role, _roles),
    Column("Source", _either(_source, _heard), _padded(lambda m: m.inventory.width * m.inventory.height)),
    Column(
        SIZE,
        _either(_ships, _heard_after),
        _padded(lambda m: m.after.footprint.width * m.after.footprint.height),
    ),
    Column(FORMAT, _either(_format, _codec), _padded(lambda m: m.after.formats)),
    Column("Now", _memory(lambda m: m.now), _memories(lambda m: m.now), True),
    Column("After", _memory(lambda m: m.after), _memories(lambda m: m.after), True),
    Column("Package", _package, _number("package"), True),
    Column("Findings", _signs, _number("findings")),
    Column("Fit", _fit, _number("fit"), False, True),
    Column("Wanted", _wanted, _number("wanted"), False, True),
    Column("Seen", _seen, _number("seen"), False, True),
    Column("Saves", _bytes(_number("saves")), _number("saves"), True, True),
    Column("File", _bytes(_number("file")), _number("file"), True, True),
    Column("Owners", lambda m, r: str(int(_number("users")(m)[r]) or ""), _number("users"), False, True),
    Column("Levels", lambda m, r: str(int(_number("levels")(m)[r]) or ""), _number("levels"), False, True),
    Column("Channels", lambda m, r: str(int(_number("channels")(m)[r]) or ""), _number("channels"), False, True),
)
