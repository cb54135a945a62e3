"""The filter field: completes the filter syntax while it is typed, and says in words what it cannot understand."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QStringListModel, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QCompleter, QLineEdit, QWidget

from oaktrim.core.plan.query import completions


class FilterLine(QLineEdit):
    """A line edit whose completer replaces the word at the cursor."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, placeholderText="Filter: role:normal side>2048 saves>1MiB", clearButtonEnabled=True)
        self.setAccessibleName("Filter the ledger")
        self._start = 0
        self.found = QStringListModel(self)
        self._list = QCompleter(self.found, self)
        self._list.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self._list.setWidget(self)
        self._list.activated.connect(self._take)
        self.textEdited.connect(lambda _: self._offer())

    @property
    def _popup(self) -> QAbstractItemView:
        popup = self._list.popup()
        assert popup is not None
        return popup

    def _offer(self) -> None:
        self._start, words = completions(self.text(), self.cursorPosition())
        if not words or words == [self.text()[self._start : self.cursorPosition()]]:
            self._popup.hide()
            return
        self.found.setStringList(words)
        self._list.complete()

    def _take(self, word: str) -> None:
        text, cursor = self.text(), self.cursorPosition()
        self.setText(text[: self._start] + word + text[cursor:])
        self.setCursorPosition(self._start + len(word))
        if word.endswith((":", ">")):
            self._offer()

    def event(self, event: QEvent) -> bool:
        # Tab is taken before it moves the focus on.
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and self._finish(Qt.Key(event.key())):
            return True
        return super().event(event)

    def _finish(self, key: Qt.Key) -> bool:
        """Take the offered word on Tab or Enter; say whether there was one."""
        popup = self._popup
        if not popup.isVisible() or key not in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab):
            return False
        index = popup.currentIndex()
        popup.hide()
        if index.isValid() or key == Qt.Key.Key_Tab:
            self._take(str(index.data() or self.found.stringList()[0]))
            return True
        return False

    def show_fault(self, fault: str) -> None:
        """Mark the line with what is wrong in it, or with nothing."""
        self.setToolTip(fault)
        self.setProperty("wrong", bool(fault))
        self.style().unpolish(self)
        self.style().polish(self)
