"""The targets page: the limits, hardware, rules and packing of each target of the job, editable, and checked as one types."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import Hardware
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.sounds.codecs import SoundKind, SoundStorage
from oaktrim.core.targets.lines import LINES
from oaktrim.core.targets.target import (
    Filtering,
    Oversize,
    SizeRule,
    Target,
    load_target,
    save_target,
    shipped_targets,
    validate,
)
from oaktrim.core.units import bytes_text, size_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

_FAMILIES = (Hardware.PLAIN, Hardware.BC, Hardware.ETC2, Hardware.ASTC, Hardware.UNIVERSAL)
_FAMILY_WORDS = {Hardware.PLAIN: "Plain", Hardware.UNIVERSAL: "UASTC"}
_SIZE_RULES = {
    SizeRule.FREE: "any size",
    SizeRule.WANTED: "powers of two wanted",
    SizeRule.NEEDED_FOR_LEVELS: "powers of two needed for levels",
    SizeRule.RESAMPLED: "resampled to powers of two",
}
_OVERSIZE = {
    Oversize.HALVED: "upper levels left out",
    Oversize.RESAMPLED: "resampled on upload",
    Oversize.REFUSED: "refused",
}


def rest_pays(plan: Plan, family: Hardware) -> str:
    """Return what those without a family of hardware would pay for what a plan ships in it."""
    inside = np.array([FORMATS[name].hardware is family for name in ORDER])[plan.formats]
    count = int(inside.sum())
    share = plan.target.audience.get(family, 1.0) if family in plan.target.hardware else 0.0
    if not count or family is Hardware.PLAIN:
        return "nothing ships in it" if family is not Hardware.PLAIN else "all have it"
    a = plan.footprint
    plain = sum(
        FORMATS[FORMATS[ORDER[plan.formats[row]]].expands_to].mip_chain_bytes(
            int(a.width[row]), int(a.height[row]), int(a.levels[row]), layers=plan.inventory.textures[row].slices
        )
        for row in np.flatnonzero(inside)
    )
    held = int(a.stored[inside].sum())
    more = f"{bytes_text(plain)} instead of {bytes_text(held)} in memory, expanded at load"
    what = f"{count} texture{'' if count == 1 else 's'}"
    return f"{what}; nobody pays more" if share == 1 else f"{what}; {(1 - share) * 100:.0f} % pay {more}"


class TargetsPage(QWidget):
    """The job's targets at the left, the chosen one's fields at the right; every change is an edit of the job."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self._session = session
        self.list = with_properties(QListWidget(), accessibleName="Targets of the job")
        self.list.setFixedWidth(170)
        self.list.currentRowChanged.connect(lambda _: self._show())
        self.copy = QPushButton("Copy")
        self.remove = QPushButton("Remove")
        self.reset = with_properties(QPushButton("As shipped"), toolTip="Undo all changes to this target")
        self._import = QPushButton("Import…")
        self._export = QPushButton("Export…")
        self.fields: dict[str, QLineEdit] = {}
        self.has: dict[Hardware, QCheckBox] = {}
        self.shares: dict[Hardware, QSpinBox] = {}
        self._pays: dict[Hardware, QLabel] = {}
        self.choices: dict[str, QComboBox] = {}
        self.level = with_properties(QSpinBox(minimum=0, maximum=22), accessibleName="Packing level")
        self.said = with_properties(QLabel(wordWrap=True), objectName="warning")
        self._build()
        session.opened.connect(self._reload)
        session.job_changed.connect(self._reload)

    # Building

    def _build(self) -> None:
        keys = QGridLayout()
        buttons = (self.copy, self.remove, self._import, self._export, self.reset)
        acts: tuple[Callable[[], None], ...] = (
            self._copy,
            self._remove,
            self._ask_import,
            self._ask_export,
            self._reset,
        )
        for place, (key, act) in enumerate(zip(buttons, acts, strict=True)):
            key.clicked.connect(act)
            keys.addWidget(key, place // 2, place % 2)
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(keys)
        inside = with_properties(QWidget(), objectName="sheet")
        form = QVBoxLayout(inside)
        form.setContentsMargins(16, 4, 16, 12)
        form.setSpacing(10)
        form.addLayout(self._names())
        form.addWidget(with_properties(QLabel("Limits"), objectName="heading"))
        form.addLayout(self._limits())
        form.addWidget(
            with_properties(QLabel("Hardware, and the share of the audience that has it"), objectName="heading")
        )
        form.addLayout(self._hardware())
        form.addWidget(with_properties(QLabel("Sizes, upload, packing and sounds"), objectName="heading"))
        form.addLayout(self._rules())
        form.addWidget(self.said)
        form.addStretch(1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QScrollArea.Shape.NoFrame)
        scroll.setWidget(inside)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 6, 0, 8)
        row.addLayout(left)
        row.addWidget(scroll, 1)

    def _line(self, name: str, words: str) -> QLineEdit:
        line = with_properties(QLineEdit(), accessibleName=words)
        line.editingFinished.connect(self._changed)
        self.fields[name] = line
        return line

    def _names(self) -> QGridLayout:
        grid = QGridLayout()
        for place, name in enumerate(("name", "about")):
            grid.addWidget(with_properties(QLabel(name.capitalize()), objectName="soft"), place, 0)
            grid.addWidget(self._line(name, name.capitalize()), place, 1)
        return grid

    def _limits(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        for place, limited in enumerate(LINES.values()):
            line = self._line(limited.field, f"Limit: {limited.label}")
            line.setPlaceholderText("not watched")
            grid.addWidget(
                with_properties(QLabel(limited.label.capitalize()), objectName="soft"), place % 4, place // 4 * 2
            )
            grid.addWidget(line, place % 4, place // 4 * 2 + 1)
        return grid

    def _hardware(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        for place, family in enumerate(_FAMILIES):
            has = QCheckBox(_FAMILY_WORDS.get(family, family.value.upper()))
            share = with_properties(
                QSpinBox(minimum=1, maximum=100, suffix=" %"), accessibleName=f"Share with {family.value}"
            )
            if family is Hardware.UNIVERSAL:
                has.setToolTip("Its loader makes blocks of the others of UASTC")
            has.toggled.connect(lambda _: self._changed())
            share.editingFinished.connect(self._changed)
            self.has[family], self.shares[family], self._pays[family] = (
                has,
                share,
                with_properties(QLabel(), objectName="caption"),
            )
            for column, widget in enumerate((has, share, self._pays[family])):
                grid.addWidget(widget, place, column)
        grid.setColumnStretch(2, 1)
        return grid

    def _rules(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        rows: tuple[tuple[str, str, dict[Any, str]], ...] = (
            ("size_rule", "Sizes", {rule.value: words for rule, words in _SIZE_RULES.items()}),
            ("oversize", "Over the longest side", {rule.value: words for rule, words in _OVERSIZE.items()}),
            ("container", "Container", {"ktx2": "KTX2", "dds": "DDS"}),
            ("method", "Package packed with", {"deflate": "deflate", "zstd": "Zstandard", "lz4": "LZ4"}),
            (
                "filtering",
                "Filtering",
                {Filtering.TRILINEAR.value: "trilinear", Filtering.ANISOTROPIC.value: "anisotropic"},
            ),
        )
        for place, (name, words, options) in enumerate(rows):
            box = with_properties(QComboBox(), accessibleName=words)
            for value, label in options.items():
                box.addItem(label, value)
            box.activated.connect(lambda _: self._changed())
            self.choices[name] = box
            grid.addWidget(with_properties(QLabel(words), objectName="soft"), place // 2, place % 2 * 2)
            grid.addWidget(box, place // 2, place % 2 * 2 + 1)
        grid.addWidget(with_properties(QLabel("Level"), objectName="soft"), 2, 2)
        grid.addWidget(self.level, 2, 3)
        self.level.editingFinished.connect(self._changed)
        screen, rate = self._line("screen", "Screen, pixels"), self._line("disk_rate", "Disk, a second")
        rate.setPlaceholderText("not watched")
        for place, (words, line) in enumerate((("Screen, pixels", screen), ("Disk, a second", rate))):
            grid.addWidget(with_properties(QLabel(words), objectName="soft"), 3, place * 2)
            grid.addWidget(line, 3, place * 2 + 1)
        held = with_properties(QComboBox(), accessibleName="Sounds in memory")
        for value in SoundStorage:
            held.addItem(value.value, value.value)
        held.activated.connect(lambda _: self._changed())
        self.choices["sound_storage"] = held
        kinds = self._line("sound_kinds", "Sound files that it plays")
        kinds.setToolTip(f"Some of {', '.join(kind.value for kind in SoundKind)}; ogg holds Vorbis")
        for place, (words, widget) in enumerate((("Sounds in memory", held), ("Plays", kinds))):
            grid.addWidget(with_properties(QLabel(words), objectName="soft"), 4, place * 2)
            grid.addWidget(widget, 4, place * 2 + 1)
        return grid

    # Showing

    @property
    def target(self) -> Target | None:
        """The target that is shown."""
        place = self.list.currentRow()
        return self._session.targets[place] if 0 <= place < len(self._session.targets) else None

    def _reload(self) -> None:
        kept = self.target.id if self.target is not None else self._session.watched_id
        with QSignalBlocker(self.list):
            self.list.clear()
            for target in self._session.targets:
                mine = target in self._session.job.own_targets
                self.list.addItem(QListWidgetItem(f"{target.name}{' ✎' if mine else ''}"))
            ids = [target.id for target in self._session.targets]
            self.list.setCurrentRow(ids.index(kept) if kept in ids else 0)
        self._show()

    def showEvent(self, event: object) -> None:
        if self._session.is_open:
            self._reload()

    def _show(self) -> None:
        target = self.target
        if target is None or not self._session.is_open:
            return
        for name, line in self.fields.items():
            value = getattr(target, name) if hasattr(target, name) else getattr(target.limits, name)
            if name == "screen":
                value = f"{value[0]}x{value[1]}"
            elif name == "sound_kinds":
                value = ", ".join(kind.value for kind in value)
            line.setText("" if value is None else str(value))
            line.setCursorPosition(0)
        plan = self._session.plan(target.id) if self.isVisible() else None
        for family in _FAMILIES:
            with QSignalBlocker(self.has[family]), QSignalBlocker(self.shares[family]):
                self.has[family].setChecked(family in target.hardware)
                self.shares[family].setValue(round(target.audience.get(family, 1.0) * 100))
                self.shares[family].setEnabled(family in target.hardware and family is not Hardware.PLAIN)
            if plan is not None:
                self._pays[family].setText(rest_pays(plan, family))
        values = {"size_rule": target.size_rule.value, "oversize": target.oversize.value}
        values |= {"container": target.container, "method": target.packing.method, "filtering": target.filtering.value}
        values["sound_storage"] = target.sound_storage.value
        for name, box in self.choices.items():
            box.setCurrentIndex(box.findData(values[name]))
        with QSignalBlocker(self.level):
            self.level.setValue(target.packing.level)
        self._say("\n".join(validate(target)))
        self.remove.setEnabled(len(self._session.targets) > 1)
        self.reset.setEnabled(target in self._session.job.own_targets and target.id in shipped_targets())

    def _say(self, text: str) -> None:
        self.said.setText("\n".join(f"▲ {line}" for line in text.splitlines()))
        self.said.setVisible(bool(text))

    # Changing

    def _written(self, target: Target) -> dict[str, Any]:
        """Return the fields as they stand in the page, as a document."""
        document: dict[str, Any] = msgspec.to_builtins(target)
        document["name"], document["about"] = self.fields["name"].text().strip(), self.fields["about"].text().strip()
        limits: dict[str, Any] = {}
        for line in LINES.values():
            text = self.fields[line.field].text().strip()
            if text:
                limits[line.field] = text if line.in_bytes else int(text.replace(",", "").replace("_", ""))
        document["limits"] = limits
        has = [family for family in _FAMILIES if self.has[family].isChecked()]
        document["hardware"] = [family.value for family in has]
        shares = {family.value: self.shares[family].value() / 100 for family in has}
        document["audience"] = {name: share for name, share in shares.items() if share < 1}
        for name in ("size_rule", "oversize", "container", "filtering", "sound_storage"):
            document[name] = self.choices[name].currentData()
        document["disk_rate"] = self.fields["disk_rate"].text().strip() or None
        document["sound_kinds"] = [
            kind.strip() for kind in self.fields["sound_kinds"].text().split(",") if kind.strip()
        ]
        document["screen"] = size_of(self.fields["screen"].text())
        document["packing"] = {"method": self.choices["method"].currentData(), "level": self.level.value()}
        return document

    def _changed(self) -> None:
        target = self.target
        if target is None:
            return
        try:
            made = msgspec.convert(self._written(target), Target)
        except (msgspec.ValidationError, ValueError) as error:
            self._say(str(error))
            return
        if made != target:
            self._session.edit(self._session.job.with_target(made), f"target {made.name}")
        else:
            self._say("\n".join(validate(target)))

    def _copy(self) -> None:
        target = self.target
        if target is None:
            return
        taken = {t.id for t in self._session.targets} | set(shipped_targets())
        number = next(n for n in range(2, 1000) if f"{target.id}-{n}" not in taken)
        made = msgspec.structs.replace(target, id=f"{target.id}-{number}", name=f"{target.name} {number}")
        self._session.edit(self._session.job.with_target(made), f"new target {made.name}")
        self.list.setCurrentRow(self.list.count() - 1)

    def _remove(self) -> None:
        if self.target is not None and len(self._session.targets) > 1:
            self._session.edit(self._session.job.without_target(self.target.id), f"no target {self.target.name}")

    def _reset(self) -> None:
        if self.target is not None:
            self._session.edit(
                self._session.job.with_target(shipped_targets()[self.target.id]), f"{self.target.name} as shipped"
            )

    def _ask_import(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Import a target", "", "Targets (*.toml)")
        if found:
            self.import_target(Path(found))

    def import_target(self, path: Path) -> None:
        """Take a target document into the job."""
        try:
            target = load_target(path)
        except OakTrimError as error:
            self._session.failed.emit(error)
            return
        self._session.edit(self._session.job.with_target(target), f"import target {target.name}")

    def _ask_export(self) -> None:
        if self.target is None:
            return
        found, _ = QFileDialog.getSaveFileName(self, "Export the target", f"{self.target.id}.toml", "Targets (*.toml)")
        if found:
            self.export_target(Path(found))

    def export_target(self, path: Path) -> None:
        """Write the shown target as TOML."""
        try:
            if self.target is not None:
                save_target(self.target, path)
        except OakTrimError as error:
            self._session.failed.emit(error)
