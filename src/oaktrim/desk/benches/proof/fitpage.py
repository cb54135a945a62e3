"""Fit to budget: what is proposed so that every limit is met, to be accepted or refused one by one, with the totals live."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QModelIndex, QSize, Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSlider,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.errors import OakTrimError
from oaktrim.core.plan.budget import Solution, Tradeoff, tradeoff
from oaktrim.core.plan.packing import Measured
from oaktrim.core.plan.query import select
from oaktrim.core.progress import Progress
from oaktrim.core.proof.fit import Fit, propose, recipe_of, with_fit
from oaktrim.core.proof.problem import Exchange, bounds_of
from oaktrim.core.units import bytes_text
from oaktrim.desk.benches.proof.candidatepane import picture_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.models.proposals import PAIR_HIGH, PAIR_WIDE, Proposals, pair_picture
from oaktrim.desk.models.trials import Trials, Tried
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.tradechart import Point, TradeChart
from oaktrim.desk.work.tasks import Work, start


class FitPage(QWidget):
    """Proposes for the watched target; what is accepted becomes one step of undo."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._work: Work | None = None
        self._found: Fit | None = None
        self._curve: Tradeoff | None = None
        self._at = -1
        self._asked: tuple[object, ...] = (None,)
        self.trials = Trials(session.store, self)
        self.trials.found.connect(self._pictured)
        self.model = Proposals(self)
        self.table = QTableView()
        self.locked = QLineEdit(placeholderText="Leave alone: a filter, such as role:normal or path:hero/*")
        self.locked.setAccessibleName("Textures that are not to be touched, as a filter")
        self.effort = with_properties(QComboBox(), accessibleName="Effort that what is proposed is encoded with")
        self.effort.addItem("effort as it is", None)
        for effort in Effort:
            self.effort.addItem(f"{effort.value} effort", effort)
        self.by_rules = with_properties(
            QCheckBox("by the rules"), toolTip="Keep the formats that format rules say, and decide sizes: sooner done"
        )
        self.worth = {
            name: with_properties(
                QDoubleSpinBox(minimum=0, maximum=1000, decimals=1, singleStep=0.5, value=1, prefix=f"{name} ×"),
                accessibleName=f"What losses of {name} count beside those of textures",
                toolTip=tip,
            )
            for name, tip in (
                ("sounds", "What a step that is heard counts beside one that is seen; 0 leaves sounds as they are"),
                ("motion", "What 2 mm that a clip is off count beside a step that is seen; 0 leaves clips as they are"),
            )
        }
        self.begin = with_properties(QPushButton("Propose cuts"), objectName="primary")
        self.take = with_properties(QPushButton("Make the cuts"), objectName="primary")
        self.curve = with_properties(
            QSlider(Qt.Orientation.Horizontal), accessibleName="Trade-off between bytes and visible loss"
        )
        self.chart = TradeChart()
        self._bar = QProgressBar()
        self._stop = QPushButton("Cancel")
        self._words = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._totals = QLabel(wordWrap=True)
        self._others = with_properties(QLabel(wordWrap=True), objectName="caption", visible=False)
        self._curve_words = with_properties(QLabel(), objectName="caption")
        self._build()
        self.begin.clicked.connect(self.propose)
        self.take.clicked.connect(self.accept)
        self._stop.clicked.connect(self._cancel)
        self.curve.valueChanged.connect(self._move)
        self.chart.chosen.connect(self.curve.setValue)
        self.model.dataChanged.connect(lambda *_: self._count())
        session.watched_changed.connect(self.refresh)
        session.opened.connect(self.refresh)
        session.job_changed.connect(self.refresh)
        self._forget()

    def _build(self) -> None:
        self.table.setModel(self.model)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.verticalHeader().setDefaultSectionSize(PAIR_HIGH + 6)
        self.table.verticalHeader().hide()
        self.table.setIconSize(QSize(PAIR_WIDE, PAIR_HIGH))
        self.table.setShowGrid(False)
        self.table.setAccessibleName("Proposed cuts")
        self.table.setWordWrap(True)
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        head.setStretchLastSection(True)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column, width in enumerate((30, PAIR_WIDE + 10, 170, 112, 112, 76, 50)):
            self.table.setColumnWidth(column, width)
        self.table.activated.connect(self._toggle)
        top = QHBoxLayout()
        top.setContentsMargins(12, 6, 12, 4)
        top.setSpacing(8)
        parts = (
            (self._words, 3),
            (self.locked, 2),
            (self.effort, 0),
            (self.by_rules, 0),
            (self.worth["sounds"], 0),
            (self.worth["motion"], 0),
            (self._bar, 1),
            (self._stop, 0),
            (self.begin, 0),
        )
        for widget, stretch in parts:
            top.addWidget(widget, stretch)
        foot = QHBoxLayout()
        foot.setContentsMargins(12, 4, 12, 8)
        slide = QVBoxLayout()
        slide.setSpacing(2)
        slide.addWidget(self._totals)
        slide.addWidget(self._others)
        slide.addStretch(1)
        slide.addWidget(self._curve_words)
        slide.addWidget(self.curve)
        foot.addLayout(slide, 3)
        foot.addSpacing(12)
        foot.addWidget(self.chart, 2)
        foot.addSpacing(8)
        foot.addWidget(self.take, alignment=Qt.AlignmentFlag.AlignBottom)
        page = QVBoxLayout(self)
        page.setContentsMargins(0, 0, 0, 0)
        page.setSpacing(0)
        page.addLayout(top)
        page.addWidget(self.table, 1)
        page.addLayout(foot)

    def _forget(self) -> None:
        self._found, self._curve, self._at = None, None, -1
        self.trials.stop()
        self.model.refused.clear()
        self.model.take(None)
        if self._stop.isVisibleTo(self):
            self._busy(False)
        for widget in (self._totals, self._curve_words, self.curve, self.chart, self.take):
            widget.hide()

    def _busy(self, on: bool) -> None:
        if not on and self._session.is_open:
            self._session.go_on()
        self._bar.setVisible(on)
        self._stop.setVisible(on)
        self.begin.setVisible(not on)
        self.locked.setEnabled(not on)
        self.effort.setEnabled(not on)

    def refresh(self) -> None:
        """Begin anew when what was proposed is no longer for what is open."""
        session = self._session
        asked = self._question()
        if asked == self._asked:
            return
        if self._work is not None and self._work.running:
            self._work.cancel()
        self._forget()
        self._asked = asked
        if not session.is_open:
            return
        limits = session.watched.limit_bytes
        told = ", ".join(f"{line} {bytes_text(limit)}" for line, limit in limits.items())
        self.begin.setEnabled(bool(limits))
        self._words.setText(
            f"Finds the cuts that bring everything within {told} on {session.watched.name} at the least visible loss. "
            "Sizes go down from what ships now, and each choice is measured on real encodes; nothing is cut until you accept it."
            if limits
            else f"{session.watched.name} has no limit in bytes; give it one in Targets (Ctrl+4)."
        )

    def _question(self) -> tuple[object, ...]:
        """Return all that a proposal is for: where none of it has changed, the proposal still holds."""
        session = self._session
        if not session.is_open:
            return ()
        return session.watched, session.inventory, session.job.cuts, session.job.rules

    # Proposing

    def propose(self) -> None:
        """Measure and decide, beside the window."""
        session = self._session
        if not session.is_open or not session.watched.limit_bytes:
            return
        plan = session.plan()
        locked = np.zeros(len(plan.formats), np.bool_)
        try:
            if self.locked.text().strip():
                locked = np.asarray(select(self.locked.text(), session.assets()))[: len(locked)]
        except OakTrimError as error:
            session.failed.emit(error)
            return
        session.rest()
        self._busy(True)
        self._bar.setRange(0, 0)
        exchange = Exchange(self.worth["sounds"].value(), self.worth["motion"].value())
        bounds = bounds_of(session.job.role_rules, plan.target, self.by_rules.isChecked(), exchange)
        task = propose(
            plan, session.ratios, session.cache, dict(plan.target.limit_bytes), locked,
            bounds, session.job.max_pixels, self.effort.currentData(),
        )  # fmt: skip
        self._work = work = start(task, self, self._take_fit, self._failed)
        work.progress.connect(self._step)
        work.found.connect(self._take_found)
        # One that was overtaken does not hide the progress of the next.
        work.cancelled.connect(lambda: self._cancelled() if self._work is work else None)

    def _cancelled(self) -> None:
        self._busy(False)
        words = "Stopped; what was measured is kept for the next time."
        if self._found is not None and self._found.solution is not None:
            words += f" The best answer so far stays: {self._found.basis.value}."
            self._show(self._found)
        self._words.setText(words)

    def _take_found(self, found: Measured | Fit) -> None:
        """Take in what was measured, and show a first answer while better ones are sought."""
        if isinstance(found, Measured):
            self._session.weigher.take(found)
        elif found.solution is not None and self._is_current(found):
            self._take_answer(found)

    def _is_current(self, found: Fit) -> bool:
        plan, session = found.problem.plan, self._session
        return plan.target == session.watched and plan.inventory is session.inventory

    def _step(self, step: Progress) -> None:
        self._bar.setRange(0, step.total)
        self._bar.setValue(step.done)
        first = f" So far: {self._found.basis.value}." if self._found is not None else ""
        self._words.setText(
            f"{step.what}: {step.done} of {step.total}.{first}" if step.total else f"{step.what} …{first}"
        )

    def _failed(self, error: Exception) -> None:
        self._busy(False)
        self._session.failed.emit(error)

    def _cancel(self) -> None:
        if self._work is not None:
            self._work.cancel()
        self._words.setText("Stopping …")

    def _take_fit(self, found: Fit) -> None:
        self._busy(False)
        if not self._is_current(found):
            return
        if found.solution is None:
            self._found = found
            self._say_missing(found)
            return
        self._take_answer(found)
        gap = f"{found.solution.gap * 100:.2f} %" if found.solution.gap < 1 else "unknown"
        self._words.setText(
            f"Every limit is met, and the visible loss is within {gap} of the least there can be. A click on the box refuses one."
        )

    def _take_answer(self, found: Fit) -> None:
        """Show an answer, be it the first of several."""
        assert found.solution is not None
        self._found = found
        self._curve = tradeoff(found.problem.choices, found.solution.prices)
        self.curve.blockSignals(True)
        self.curve.setRange(0, len(self._curve.bytes) - 1)
        mine = found.problem.choices.cost[0, found.solution.picks].sum()
        self.curve.setValue(int(np.abs(self._curve.bytes - mine).argmin()))
        self.curve.blockSignals(False)
        self._at = -1
        for widget in (self._totals, self._curve_words, self.curve, self.chart, self.take):
            widget.show()
        self._show(found)

    def _say_missing(self, found: Fit) -> None:
        locked = f" {found.problem.locked} textures are left alone." if found.problem.locked else ""
        told = "; ".join(f"{line} stays {bytes_text(by)} over" for line, by in found.missing.items())
        self._words.setText(
            f"It cannot be met: {told or 'the limits cannot all be met together'}, with everything at its least.{locked}"
        )

    def _show(self, found: Fit) -> None:
        self.model.take(found)
        self._count()
        self._plot()
        plan = found.problem.plan
        assert found.solution is not None
        if self._work is not None and self._work.running:
            # Pictures wait for the last answer: making them takes the time of finding it.
            return
        wishes = [
            (group, found.problem.groups[group].rows[0], recipe_of(found.problem, int(found.solution.picks[group])))
            for group in self.model.groups
        ]
        self.trials.wish(plan, wishes)

    def _pictured(self, group: int, result: Tried | Exception) -> None:
        if isinstance(result, Tried):
            self.model.show_picture(group, pair_picture(picture_of(result.before), picture_of(result.after)))

    # Judging

    def _move(self, at: int) -> None:
        """Go along the curve of what can be had for what."""
        if self._found is None or self._curve is None or self._found.solution is None:
            return
        self._at = at
        picks = self._curve.picks[at]
        loss = float(self._curve.loss[at])
        there = Solution(picks, loss, loss, self._found.solution.prices)
        self._show(replace(self._found, solution=there))

    def _toggle(self, index: QModelIndex) -> None:
        self.model.turn(index.row(), self.model.groups[index.row()] in self.model.refused)

    def picks(self) -> np.ndarray:
        """Return the choices with what is refused left as it ships now."""
        found = self.model.fit
        assert found is not None
        assert found.solution is not None
        picks = found.solution.picks.copy()
        for group in self.model.refused & set(self.model.groups):
            picks[group] = found.problem.choices.first[group]
        return picks

    def _count(self) -> None:
        found = self.model.fit
        if found is None or found.solution is None:
            return
        problem, picks = found.problem, self.picks()
        lines = []
        for line, limit in zip(problem.lines, problem.limits, strict=True):
            total = problem.total(picks, line)
            now = problem.plan.total(line)
            over = total > limit
            about = "about " if line == "package" and found.unmade else ""
            colour = f' style="color:{tokens().brick}"' if over else ""
            verdict = f"{bytes_text(abs(int(total - limit)))} {'over' if over else 'to spare'}"
            lines.append(
                f"<tr><td>{line}&nbsp;&nbsp;</td>"
                f"<td>{bytes_text(now)} → <b>{about}{bytes_text(total)}</b> of {bytes_text(int(limit))}</td>"
                f"<td{colour}>&nbsp;&nbsp;{verdict}</td></tr>"
            )
        self._totals.setText(f"<table>{''.join(lines)}</table>")
        others = found.others()
        said = ", ".join(f"{group.path.rsplit('/', 1)[-1]}: {option.label}" for group, option in others[:4])
        more = f" and {len(others) - 4} more" if len(others) > 4 else ""
        self._others.setText(f"Beside textures: {said}{more}" if others else "")
        self._others.setVisible(bool(others))
        accepted = len(self.model.accepted()) + len(others)
        self.take.setText(f"Make {accepted} cuts" if accepted != 1 else "Make 1 cut")
        self.take.setEnabled(accepted > 0)

    def _plot(self) -> None:
        found, curve = self.model.fit, self._curve
        if found is None or curve is None:
            return
        count = max(1, found.problem.choices.count)
        points = []
        for at in range(len(curve.bytes)):
            jnd = float(np.sqrt(curve.loss[at] / count))
            name = "knee" if at == curve.knee else ""
            size = int(found.problem.fixed[0] + curve.bytes[at])
            points.append(Point(size, jnd, name, f"{bytes_text(size)}, {jnd:.2f} JND on average"))
        at = self.curve.value()
        self.chart.show_points(points, list(range(len(points))), at)
        where = "the least loss within the limits" if self._at < 0 else f"point {at + 1} of {len(points)}"
        self._curve_words.setText(f"Less loss ←  trade-off: {where}; the knee is point {curve.knee + 1}  → fewer bytes")

    def accept(self) -> None:
        """Make what is accepted cuts, as one step of undo."""
        session, found = self._session, self.model.fit
        if found is None or session.history is None:
            return
        groups = self.model.accepted()
        job = with_fit(session.history.job, found, groups)
        count = len(groups) + len(found.others())
        session.edit(job, f"fit to {found.problem.plan.target.name}: {count} cuts")
        self._words.setText(f"{count} cuts made; Ctrl+Z takes all of them back.")
