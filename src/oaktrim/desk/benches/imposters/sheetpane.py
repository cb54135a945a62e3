"""The sheet of an imposter with its cards, and what it costs in numbers."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from oaktrim.core.makers.imposter.frames.lookup import towards
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import AnyMade, ImposterMade
from oaktrim.core.makers.imposter.settings import SheetMap
from oaktrim.core.proof.imposterdraft import ImposterDraft
from oaktrim.core.render.camera import Camera
from oaktrim.core.units import bytes_text, decibels_text, size_text
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.cardsheet import CardSheet
from oaktrim.desk.widgets.layers import make_layer

_MAPS = {
    SheetMap.BASE: "base", SheetMap.NORMAL: "normal", SheetMap.ORM: "surface", SheetMap.EMISSIVE: "emissive",
    SheetMap.DEPTH: "depth",
}  # fmt: skip


class SheetPane(QFrame):
    """The right side of the bench.

    Signals
    -------
    outlined : place of a card and the corners of its outline, as parts of its rectangle
    """

    outlined = Signal(int, object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("swatch")
        self.setFixedWidth(292)
        self._draft: ImposterDraft | None = None
        self._heading = with_properties(QLabel("Sheet"), objectName="heading")
        self._size = with_properties(QLabel(), objectName="caption", accessibleName="Size of the sheet")
        self.sheet = CardSheet()
        self.maps: dict[SheetMap, QPushButton] = {}
        self.warnings = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What does not come through"
        )
        self._table = QGridLayout()
        self.figures: dict[str, str] = {}
        self._build()
        self.sheet.outlined.connect(self.outlined)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(6)
        top = QHBoxLayout()
        top.addWidget(self._heading)
        top.addWidget(self._size, 1)
        column.addLayout(top)
        # Five words are too wide for one row of this pane.
        keys = QGridLayout()
        keys.setSpacing(4)
        group = QButtonGroup(self)
        for place, (kind, words) in enumerate(_MAPS.items()):
            key = with_properties(QPushButton(words), checkable=True, checked=kind is SheetMap.BASE)
            key.setObjectName("chip")
            key.clicked.connect(partial(self._show_map, kind))
            group.addButton(key)
            keys.addWidget(key, place // 3, place % 3)
            self.maps[kind] = key
        keys.setColumnStretch(3, 1)
        column.addLayout(keys)
        column.addWidget(self.sheet, 1)
        self._table.setVerticalSpacing(3)
        self._table.setHorizontalSpacing(12)
        self._table.setColumnStretch(0, 1)
        column.addLayout(self._table)
        column.addWidget(self.warnings)

    def say_nothing(self) -> None:
        """Show that nothing is known."""
        self._draft = None
        self.sheet.show_sheet(None, (1, 1), ())
        self._size.setText("")
        self.warnings.setText("")
        self.figures = {}
        clear_layout(self._table)

    def show_draft(self, draft: ImposterDraft) -> None:
        """Show as much of a draft as there is."""
        made = draft.made
        if made is None:
            return
        fresh = self._draft is None or self._draft.made is not made
        self._draft = draft
        if fresh:
            base = made.sheet.maps[SheetMap.BASE]
            what = (
                f"{made.sheet.grid.columns} × {made.sheet.grid.rows} frames"
                if isinstance(made, FramesMade)
                else f"{len(made.sheet.cards)} cards"
            )
            self._size.setText(f"{size_text(base.width, base.height)} · {what}")
            for kind, key in self.maps.items():
                key.setVisible(kind in made.sheet.maps)
            shown = next((k for k, key in self.maps.items() if key.isChecked() and k in made.sheet.maps), SheetMap.BASE)
            self.maps[shown].setChecked(True)
            self._show_map(shown)
            self.warnings.setText("\n".join(f"▲ {line}" for line in made.warnings[:3]))
            self.warnings.setVisible(bool(made.warnings))
        self._show_table(draft)

    def show_frames_of(self, made: AnyMade | None, camera: Camera) -> None:
        """Mark the frames that are blended for a camera, with their weights."""
        if not isinstance(made, FramesMade):
            self.sheet.show_frames(())
            return
        cells, weights = made.sheet.grid.around(towards(made.sheet, camera))
        side = made.sheet.side
        self.sheet.show_frames(
            tuple(
                (int(c) * side, int(r) * side, side, float(w))
                for (c, r), w in zip(cells, weights, strict=True)
                if w > 0.005
            )
        )

    def _show_map(self, kind: SheetMap, _: bool = True) -> None:
        made = self._draft.made if self._draft is not None else None
        if made is not None and kind in made.sheet.maps:
            image = made.sheet.maps[kind]
            base = made.sheet.maps[SheetMap.BASE]
            self.sheet.show_sheet(make_layer(image), (base.width, base.height), made.sheet.cards)

    def _show_table(self, draft: ImposterDraft) -> None:
        made = draft.made
        assert made is not None
        rows = [
            ("triangles", f"{draft.triangles:,} → {made.triangles:,}"),
            ("draws", f"{draft.draws} → 1"),
            *((f"memory, {name}", f"+{bytes_text(size)}") for name, size in draft.memory),
            ("clear, of what is drawn", f"{made.clear_share * 100:.0f} %"),
        ]
        if isinstance(made, ImposterMade) and made.cloud is not None:
            rows.append(("planes hold within", f"{made.cloud.error:.3g} m"))
        chain = draft.settings.chain
        if draft.likeness is not None and chain is not None:
            at = draft.likeness.at(max(6.0, chain.switch * self.lines))
            rows.append(("at the switch", f"{at.jnd:.1f} JND · {at.apart:.1f} px"))
        elif draft.likeness is not None:
            at = draft.likeness.at(64)
            rows.append(("at 64 px", f"{at.overlap:.3f}, {decibels_text(at.psnr)}"))
        self.figures = dict(rows)
        clear_layout(self._table)
        for place, (name, value) in enumerate(rows):
            self._table.addWidget(with_properties(QLabel(name), objectName="caption"), place, 0)
            figure = with_properties(QLabel(value), objectName="heading", accessibleName=f"{name}: {value}")
            self._table.addWidget(figure, place, 1)

    lines = 1080
