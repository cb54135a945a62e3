"""The model before and after, turned together, and what an atlas changes in numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from math import inf

from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.alike import Alike
from oaktrim.core.proof.atlasdraft import AtlasDraft, TargetCost
from oaktrim.core.proof.onmodel import compared
from oaktrim.core.render.camera import framing
from oaktrim.core.units import bytes_text
from oaktrim.desk.benches.proof.against import Against
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import JND_TIP
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.layers import Layer, difference_layer
from oaktrim.desk.widgets.picture import Mode
from oaktrim.desk.widgets.sceneview import Drawn, SceneView
from oaktrim.desk.work.tasks import Work, start

_SCALES = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0)


def _difference(drawn: Drawn) -> Task[tuple[Layer, float]]:
    yield Progress(0, 1, "comparing")
    before, after = (shot.picture for shot in drawn.shots)
    assert before is not None and after is not None
    steps = compared(before, after).steps
    most = next((scale for scale in _SCALES if scale >= float(steps.max(initial=0.0))), _SCALES[-1])
    return difference_layer(steps, most, ""), most


class LikenessPane(QFrame):
    """The right side of the bench."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("swatch")
        self.setMinimumWidth(300)
        self.setMaximumWidth(364)
        self.view = SceneView()
        self.view.setAccessibleName("The model before and after")
        self.against = Against(self.view)
        self.against.blink.hide()
        self.words = with_properties(
            QLabel(wordWrap=True), accessibleName="How far the model is from itself", toolTip=JND_TIP
        )
        self.worst = with_properties(QLabel(wordWrap=True), objectName="caption", accessibleName="The worst place")
        self.warnings = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What does not come through whole"
        )
        self.go = with_properties(QPushButton("Go there"), toolTip="Look at the worst place from near by (G)")
        self._table = QGridLayout()
        self._alike: Alike | None = None
        self._draft: AtlasDraft | None = None
        self._work: Work | None = None
        self.go.hide()
        self._build()
        self.view.settled.connect(self._compare)
        self.go.clicked.connect(self.go_to_worst)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 8)
        column.setSpacing(0)
        keys = QHBoxLayout()
        keys.setContentsMargins(8, 8, 8, 6)
        keys.addWidget(self.against)
        keys.addStretch(1)
        column.addLayout(keys)
        column.addWidget(self.view, 1)
        low = QVBoxLayout()
        low.setContentsMargins(12, 8, 12, 0)
        low.setSpacing(4)
        low.addWidget(self.words)
        place = QHBoxLayout()
        place.addWidget(self.worst, 1)
        place.addWidget(self.go)
        low.addLayout(place)
        low.addWidget(self.warnings)
        self._table.setHorizontalSpacing(16)
        self._table.setVerticalSpacing(3)
        self._table.setColumnStretch(0, 1)
        low.addLayout(self._table)
        column.addLayout(low)

    # What is shown

    def say(self, words: str) -> None:
        """Show words in the place of the model."""
        self.view.say(words)
        self._alike, self._draft = None, None
        self.words.setText("")
        self.worst.setText("")
        self.warnings.hide()
        self.go.hide()
        clear_layout(self._table)

    def show_draft(self, draft: AtlasDraft, costs: Sequence[TargetCost], watched: str) -> None:
        """Show as much of a draft as there is."""
        if draft.change is not None:
            self._show_table(draft, costs, watched)
        if draft.before is not None and draft.after is not None:
            last = self._draft
            if last is None or last.after is not draft.after:
                home = framing(*draft.before.draws.box(), (0.35, 0.25, 1.0))
                self.view.show_scenes((draft.before, draft.after), ("before", "after"), home, last is not None)
            self._draft = draft
        if draft.alike is not None:
            self._show_alike(draft.alike)
        elif draft.before is not None:
            self.words.setText("looking at it from all around …")

    def _show_alike(self, found: Alike) -> None:
        self._alike = found
        outline = "outline the same" if not found.outline else f"outline off by {found.outline} pixels"
        colour = "no pixel differs" if found.psnr == inf else f"{found.psnr:.1f} dB"
        self.words.setText(f"From {len(found.views)} views: {outline} · {colour} · {found.jnd:.2f} JND")
        worst = found.worst
        self.worst.setText(f"Worst place: {worst.worst:.1f} JND")
        self.go.setVisible(worst.worst > 0)

    def _show_table(self, draft: AtlasDraft, costs: Sequence[TargetCost], watched: str) -> None:
        change = draft.change
        assert change is not None and draft.made is not None
        lines = draft.made.warnings
        self.warnings.setText(
            "\n".join(f"▲ {line}" for line in lines[:2]) + (f"\nand {len(lines) - 2} more" if len(lines) > 2 else "")
        )
        self.warnings.setToolTip("\n".join(lines))
        self.warnings.setVisible(bool(lines))
        rows = [
            ("draws", f"{change.before.draws:,}", f"{change.after.draws:,}"),
            ("materials", f"{change.before.materials:,}", f"{change.after.materials:,}"),
            ("textures", f"{change.before.textures:,}", f"{change.after.textures:,}"),
            ("vertices", f"{change.before.vertices:,}", f"{change.after.vertices:,}"),
        ]
        rows += [(f"memory, {row.target}", bytes_text(row.memory[0]), bytes_text(row.memory[1])) for row in costs]
        rows += [
            (f"package, {row.target}", bytes_text(row.package[0]), f"about {bytes_text(row.package[1])}")
            for row in costs
            if row.target == watched
        ]
        clear_layout(self._table)
        for row, (name, before, after) in enumerate(rows):
            self._table.addWidget(with_properties(ElidedLabel(name), objectName="caption"), row, 0)
            self._table.addWidget(with_properties(QLabel(f"{before}  →"), objectName="caption"), row, 1)
            value = with_properties(QLabel(after), objectName="heading")
            value.setAccessibleName(f"{name}: {before} before, {after} after")
            self._table.addWidget(value, row, 2)

    def _compare(self, drawn: Drawn) -> None:
        if len(drawn.shots) != 2:
            return
        if self._work is not None:
            self._work.cancel()

        def done(found: tuple[Layer, float]) -> None:
            if self.view.drawn is drawn:
                self.view.show_difference(*found)

        work = self._work = start(_difference(drawn), self, done, lambda error: self.words.setText(str(error)))
        work.ended.connect(lambda: self._ended(work))

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None

    def go_to_worst(self) -> None:
        """Look at the worst place from near by, as a map of what differs."""
        if self._alike is None:
            return
        worst = self._alike.worst
        eye, target = worst.camera.eye, worst.place
        near = tuple(t + (e - t) * 0.35 for e, t in zip(eye, target, strict=True))
        self.view.set_camera(replace(worst.camera, eye=(near[0], near[1], near[2]), target=target))
        self.against.set_mode(Mode.SPLIT)
