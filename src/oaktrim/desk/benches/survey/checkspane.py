"""The checks pane: a studio's own rules, with what each meets while it is typed; and what built-in findings count as."""

from __future__ import annotations

from collections import Counter

from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.checks import Check, CheckFix, Grade, example_checks, meets
from oaktrim.core.plan.query import select
from oaktrim.core.plan.syntax import QueryError
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.filterline import FilterLine

_AS_SHIPPED, _OFF = "as it ships", "off"
_CAPS = (64, 128, 256, 512, 1024, 2048, 4096)


class ChecksPane(QWidget):
    """Own checks in a list over a line to edit one; built-in findings at the right."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.checks = with_properties(QListWidget(), accessibleName="Checks of your own")
        self.name = with_properties(QLineEdit(placeholderText="name-of-the-check"), accessibleName="Name of the check")
        self.where = FilterLine()
        self.where.setPlaceholderText("What breaks it: folder:ui side>512")
        self.where.setAccessibleName("What breaks the check")
        self.severity = with_properties(QComboBox(), accessibleName="Severity of the check")
        self.say = with_properties(QLineEdit(), accessibleName="What the check says")
        self.say.setPlaceholderText("What is wrong, to whoever finds it")
        self.fix = with_properties(QComboBox(), accessibleName="Fix")
        self.met = with_properties(QLabel(), objectName="caption", accessibleName="What the check meets")
        self.set = with_properties(QPushButton("Add it"), objectName="primary")
        self.remove = QPushButton("Remove")
        self.examples = with_properties(QPushButton("Add examples"), toolTip="Eight checks to begin with")
        self.built_in = with_properties(QListWidget(), accessibleName="Built-in findings")
        self.grade = with_properties(QComboBox(), accessibleName="What the finding counts as")
        self.scope = with_properties(QComboBox(), accessibleName="Targets that the grade is for")
        self._count = QTimer(self, singleShot=True, interval=120)
        self._count.timeout.connect(self._show_met)
        self._fill()
        self._build()
        self._connect()

    def _fill(self) -> None:
        for severity in Severity:
            self.severity.addItem(severity.value, severity)
        self.severity.setCurrentIndex(1)
        self.fix.addItem("no fix", None)
        for side in _CAPS:
            self.fix.addItem(f"cap {side}", CheckFix(cap=side))
        for row in FORMATS.values():
            self.fix.addItem(f"as {row.label}", CheckFix(format=row.name))
        self.grade.addItem(_AS_SHIPPED, _AS_SHIPPED)
        self.grade.addItem(_OFF, _OFF)
        for severity in Severity:
            self.grade.addItem(severity.value, severity.value)
        for code, label in LABELS.items():
            item = QListWidgetItem(label)
            item.setData(Qt.ItemDataRole.UserRole, code)
            self.built_in.addItem(item)

    def _build(self) -> None:
        left = QVBoxLayout()
        left.setContentsMargins(10, 2, 0, 6)
        left.setSpacing(4)
        left.addWidget(self.checks, 1)
        self.checks.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.checks.setTextElideMode(Qt.TextElideMode.ElideRight)
        first, second = QHBoxLayout(), QHBoxLayout()
        self.name.setFixedWidth(150)
        first.addWidget(self.name)
        first.addWidget(self.where, 1)
        first.addWidget(self.met)
        second.addWidget(self.severity)
        second.addWidget(self.say, 1)
        self.fix.setMaximumWidth(130)
        second.addWidget(self.fix)
        third = QHBoxLayout()
        for key in (self.set, self.remove, self.examples):
            third.addWidget(key)
        third.addStretch(1)
        for line in (first, second, third):
            line.setSpacing(4)
            left.addLayout(line)
        right = QVBoxLayout()
        right.setContentsMargins(4, 2, 10, 6)
        right.setSpacing(4)
        right.addWidget(with_properties(QLabel("Built-in findings"), objectName="caption"))
        right.addWidget(self.built_in, 1)
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(with_properties(QLabel("counts as"), objectName="soft"))
        line.addWidget(self.grade, 1)
        line.addWidget(self.scope, 1)
        right.addLayout(line)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addLayout(left, 13)
        row.addLayout(right, 7)

    def _connect(self) -> None:
        session = self._session
        self.checks.currentRowChanged.connect(lambda _: self._show_check())
        self.where.textChanged.connect(lambda _: self._count.start())
        self.name.textChanged.connect(lambda _: self._show_keys())
        self.set.clicked.connect(self.set_check)
        self.remove.clicked.connect(self._remove)
        self.examples.clicked.connect(self._add_examples)
        self.built_in.currentRowChanged.connect(lambda _: self._show_grade())
        self.grade.activated.connect(lambda _: self._set_grade())
        self.scope.activated.connect(lambda _: self._show_grade())
        for signal in (session.opened, session.job_changed, session.findings_changed, session.watched_changed):
            signal.connect(self.refresh)

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the checks, what each meets now, and how built-in findings are graded."""
        session = self._session
        if not session.is_open or session.inventory is None or session.trying or not self.isVisible():
            return
        assets, kept = session.assets(), self.checks.currentRow()
        with QSignalBlocker(self.checks):
            self.checks.clear()
            for check in session.checks.own:
                count = len(meets(check, assets))
                shared = "" if check in session.job.checks else " · shared"
                item = QListWidgetItem(
                    f"{check.name} · {check.severity.value} · meets {count:,}{shared} · {check.where}"
                )
                item.setToolTip(check.say)
                self.checks.addItem(item)
            self.checks.setCurrentRow(min(kept, self.checks.count() - 1))
        place = max(0, self.scope.currentIndex())
        with QSignalBlocker(self.scope):
            self.scope.clear()
            self.scope.addItems(["all targets", f"{session.watched.name} only"])
            self.scope.setCurrentIndex(place)
        found = Counter(finding.code for finding in session.findings())
        graded = {row.code: row for row in session.job.grades if row.is_for(session.watched_id)}
        for row in range(self.built_in.count()):
            item = self.built_in.item(row)
            code = str(item.data(Qt.ItemDataRole.UserRole))
            grade = graded.get(code)
            count = found[code]
            word = "" if grade is None else f" · {_OFF if grade.severity is None else grade.severity.value}"
            item.setText(f"{LABELS[code]}{f' · {count}' if count else ''}{word}")
        self._show_grade()
        self._show_keys()
        self._show_met()

    # Own checks

    @property
    def _chosen(self) -> Check | None:
        own, place = self._session.checks.own, self.checks.currentRow()
        return own[place] if 0 <= place < len(own) else None

    def _show_check(self) -> None:
        check = self._chosen
        if check is None:
            return
        self.name.setText(check.name)
        self.where.setText(check.where)
        self.where.setCursorPosition(0)
        self.say.setText(check.say)
        self.severity.setCurrentIndex(list(Severity).index(check.severity))
        places = [place for place in range(self.fix.count()) if self.fix.itemData(place) == check.fix]
        if not places:
            assert check.fix is not None
            self.fix.addItem(check.fix.words, check.fix)
            places = [self.fix.count() - 1]
        self.fix.setCurrentIndex(places[0])
        self._show_keys()

    def _show_keys(self) -> None:
        if not self._session.is_open:
            return
        known = any(row.name == self.name.text() for row in self._session.job.checks)
        self.set.setText("Change it" if known else "Add it")
        self.remove.setEnabled(known)
        self.examples.setVisible(not set(example_checks()) <= set(self._session.job.checks))

    def _show_met(self) -> None:
        """Say how many files the filter keeps as it is typed, or what is wrong with it."""
        if not self._session.is_open or self._session.inventory is None:
            return
        text, fault = self.where.text(), ""
        if text:
            try:
                count = int(select(text, self._session.assets()).sum())
                self.met.setText(f"meets {count:,}")
            except QueryError as error:
                fault = f"{error} (at letter {error.at + 1})"
                self.met.setText("▲ " + str(error)[:40])
        else:
            self.met.setText("")
        self.met.setToolTip(fault)
        self.where.show_fault(fault)

    def set_check(self) -> None:
        """Let the job have the check that is typed."""
        session = self._session
        if session.history is None:
            return
        try:
            check = Check(
                self.name.text(),
                self.where.text(),
                self.severity.currentData(),
                self.say.text(),
                self.fix.currentData(),
            )
        except ValueError as error:
            self.met.setText("▲ " + str(error)[:60])
            self.met.setToolTip(str(error))
            return
        if check.where:
            session.edit(session.history.job.with_check(check), f"check {check.name}")

    def _remove(self) -> None:
        if self._session.history is not None:
            name = self.name.text()
            self._session.edit(self._session.history.job.without_check(name), f"no check {name}")

    def _add_examples(self) -> None:
        if self._session.history is not None:
            job = self._session.history.job
            for check in example_checks():
                job = job.with_check(check)
            self._session.edit(job, "example checks")

    # Built-in findings

    @property
    def _code(self) -> str:
        item = self.built_in.currentItem()
        return "" if item is None else str(item.data(Qt.ItemDataRole.UserRole))

    @property
    def _targets(self) -> tuple[str, ...]:
        return (self._session.watched_id,) if self.scope.currentIndex() == 1 else ()

    def _show_grade(self) -> None:
        rows = self._session.job.grades if self._session.is_open else ()
        grade = next((row for row in rows if (row.code, row.targets) == (self._code, self._targets)), None)
        value = _AS_SHIPPED if grade is None else _OFF if grade.severity is None else grade.severity.value
        self.grade.setCurrentIndex(self.grade.findData(value))
        self.grade.setEnabled(bool(self._code))

    def _set_grade(self) -> None:
        session, code, value = self._session, self._code, self.grade.currentData()
        if session.history is None or not code:
            return
        severity = None if value == _OFF else Severity(value) if value != _AS_SHIPPED else None
        grade = None if value == _AS_SHIPPED else Grade(code, severity, self._targets)
        session.edit(session.history.job.with_grade(code, grade, self._targets), f"{LABELS[code].lower()}: {value}")
