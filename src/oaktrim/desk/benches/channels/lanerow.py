"""A lane: one output channel of a pack, with what feeds it, and a small picture of what it will hold."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

import msgspec
from PySide6.QtCore import QPoint, QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor, QDragEnterEvent, QDropEvent, QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
    QWidgetAction,
)

from oaktrim.core.makers.layouts import LayoutSlot
from oaktrim.core.makers.pack.pack import Channel, ChannelSource, Combine, Lane
from oaktrim.core.pixels.codes import Transfer
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens

_KEYS = (*((channel, channel.value) for channel in Channel), (None, "fill"))
_NAMES = ("Red", "Green", "Blue", "Alpha")
_SIDE = 58
_WORDS = {"luminance": "luminance of the colours", "largest": "largest of the colours", "smallest": "smallest of them"}


class Thumb(QWidget):
    """A small picture on the neutral canvas."""

    def __init__(self, side: int = _SIDE, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedSize(side, side)
        self._picture: QImage | None = None

    def show_picture(self, picture: QImage | None) -> None:
        self._picture = picture
        self.update()

    @property
    def picture(self) -> QImage | None:
        return self._picture

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(tokens().canvas))
        if self._picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            size = self._picture.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
            corner = QPoint((self.width() - size.width()) // 2, (self.height() - size.height()) // 2)
            painter.drawImage(self.rect().adjusted(corner.x(), corner.y(), -corner.x(), -corner.y()), self._picture)
        painter.end()


class LaneRow(QFrame):
    """Shows one lane and says how a hand changes it.

    Signals
    -------
    changed : what turns the lane into what it shall be, and the edit in words
    source_wanted : a source is to be chosen; whether beside the one that is there
    dropped : a file was dropped on the lane
    """

    changed = Signal(object, str)
    source_wanted = Signal(bool)
    dropped = Signal(str)

    def __init__(self, place: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAcceptDrops(True)
        self.setFixedHeight(74)
        self.place = place
        self._lane = Lane()
        self._at = 0
        self.thumb = Thumb()
        self.thumb.setAccessibleName(f"What {_NAMES[place].lower()} will hold")
        self._name = with_properties(QLabel(_NAMES[place]), objectName="heading")
        self._role = with_properties(QLabel(wordWrap=True), objectName="caption")
        self.source = QPushButton()
        self.source.setAccessibleName(f"Source of {_NAMES[place].lower()}")
        self.add = with_properties(QPushButton("+"), toolTip="Combine another source in this lane")
        self.add.setAccessibleName(f"Another source for {_NAMES[place].lower()}")
        self._which = with_properties(QComboBox(), accessibleName=f"Which source of {_NAMES[place].lower()} is changed")
        self.keys: dict[str, QPushButton] = {}
        self.invert = with_properties(QPushButton("invert"), checkable=True)
        self.ranges = QPushButton("0–1")
        self.fill = QDoubleSpinBox(minimum=0, maximum=1, singleStep=0.05, decimals=3)
        self.fill.setAccessibleName(f"Fill of {_NAMES[place].lower()}")
        self.fill.setFixedWidth(78)
        self.words = with_properties(QLabel(), objectName="caption")
        self._menu = QMenu(self)
        self._build()

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 4, 8, 4)
        row.setSpacing(10)
        about = QVBoxLayout()
        about.setSpacing(0)
        about.addWidget(self._name)
        about.addWidget(self._role)
        about.addStretch(1)
        side = QWidget()
        side.setFixedWidth(112)
        side.setLayout(about)
        about.setContentsMargins(0, 0, 0, 0)
        row.addWidget(side)
        row.addWidget(self.thumb)
        right = QVBoxLayout()
        right.setSpacing(4)
        line = QHBoxLayout()
        line.setSpacing(3)
        self.source.setMinimumWidth(60)
        self.source.setMaximumWidth(220)
        self.source.setStyleSheet("QPushButton { font-weight: bold; text-align: left; }")
        self.source.clicked.connect(lambda: self.source_wanted.emit(False))
        self.add.clicked.connect(lambda: self.source_wanted.emit(True))
        self.add.setFixedWidth(28)
        line.addWidget(self.source)
        line.addWidget(self._which)
        line.addWidget(self.add)
        line.addSpacing(6)
        self.words.setMinimumWidth(40)
        line.addWidget(self.words, 1)
        right.addLayout(line)
        line = QHBoxLayout()
        line.setSpacing(3)
        group = QButtonGroup(self)
        for channel, name in _KEYS:
            short = {"luminance": "lum", "largest": "max", "smallest": "min"}.get(name, name)
            key = with_properties(QPushButton(short), checkable=True)
            key.setObjectName("chip")
            key.setAccessibleName(f"{_NAMES[self.place]} takes {name}")
            key.setToolTip(
                _WORDS.get(name, "One value everywhere, without a source" if channel is None else f"Channel {name}")
            )
            key.clicked.connect(partial(self._take, channel))
            group.addButton(key)
            line.addWidget(key)
            self.keys[name] = key
        line.addSpacing(6)
        self.invert.setObjectName("chip")
        self.invert.setToolTip("Invert: gloss becomes roughness, what is dark becomes light")
        self.invert.setAccessibleName(f"Invert {_NAMES[self.place].lower()}")
        self.invert.clicked.connect(self._turn)
        self.ranges.setObjectName("chip")
        self.ranges.setToolTip("What of the source is spread over what of the lane; sRGB; how sources combine")
        self.ranges.setAccessibleName(f"Range of {_NAMES[self.place].lower()}")
        self.ranges.clicked.connect(self._open_ranges)
        self.fill.editingFinished.connect(self._fill)
        for widget in (self.invert, self.ranges, self.fill):
            line.addWidget(widget)
        line.addStretch(1)
        right.addLayout(line)
        row.addLayout(right, 1)
        self._which.currentIndexChanged.connect(self._pick)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.fillRect(0, 0, 5, self.height(), tokens().channel("RGBA"[self.place]))
        painter.end()

    # What is shown

    def show_lane(self, slot: LayoutSlot, lane: Lane, words: str, warnings: Sequence[str], written: bool) -> None:
        """Show a lane: why it is as it is, and what is amiss."""
        if lane.feeds != self._lane.feeds:
            self._at = min(self._at, max(0, len(lane.feeds) - 1))
        self._lane = lane
        more = f"\nmore: {slot.more}" if slot.more else ""
        self._role.setText((f"read as {slot.name}" if slot.name else "read by nobody") + more)
        how = "sRGB codes" if slot.transfer is Transfer.SRGB else "linear values"
        self._role.setToolTip(f"Read as {how}; expected from {slot.low:g} to {slot.high:g}" if slot.name else "")
        feed = self._feed
        name = feed.source.rsplit("/", 1)[-1] if feed else "nothing"
        self.source.setText(self.source.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 170) + "  ▾")
        self.source.setToolTip(
            f"{feed.source}\nChoose another source, or drop a picture here" if feed else "Choose a source"
        )
        self._which.setVisible(len(lane.feeds) > 1)
        with QSignalBlocker(self._which):
            self._which.clear()
            self._which.addItems(
                [f"{n + 1} of {len(lane.feeds)}, {lane.combine.value}" for n in range(len(lane.feeds))]
            )
            self._which.setCurrentIndex(self._at)
        shown = feed.channel.value if feed else "fill"
        for key_name, key in self.keys.items():
            key.setChecked(key_name == shown)
            key.setEnabled(feed is not None or key_name == "fill")
        self.invert.setVisible(feed is not None)
        self.ranges.setVisible(feed is not None)
        self.add.setVisible(feed is not None)
        self.fill.setVisible(feed is None and written)
        if feed is not None:
            self.invert.setChecked(feed.invert)
            self.ranges.setText(_range_text(feed))
        with QSignalBlocker(self.fill):
            self.fill.setValue(lane.fill)
        if not written:
            words = "Not written: the texture has three channels."
        told = f"▲ {warnings[0]}" if warnings else words
        self.words.setObjectName("warning" if warnings else "caption")
        self.words.style().polish(self.words)
        self.words.setText(told)
        self.words.setToolTip("\n".join((words, *warnings)))
        for widget in (self.source, *self.keys.values(), self.invert, self.ranges, self.fill, self.add):
            widget.setEnabled(widget.isEnabled() and written if widget in self.keys.values() else written)

    def show_outside(self, share: float, slot: LayoutSlot) -> None:
        """Say how much of what the lane holds is not what its slot expects, where nothing graver is said."""
        if share > 0 and self.words.objectName() != "warning":
            self.words.setObjectName("warning")
            self.words.style().polish(self.words)
            about = max(0.1, share * 100)
            self.words.setText(
                f"▲ {about:.3g} % lies outside {slot.low:g} to {slot.high:g}, which {slot.name} is expected in."
            )

    @property
    def _feed(self) -> ChannelSource | None:
        return self._lane.feeds[self._at] if self._lane.feeds else None

    # What a hand does

    def _pick(self, at: int) -> None:
        self._at = max(0, at)
        feed = self._feed
        if feed is not None:
            for name, key in self.keys.items():
                key.setChecked(name == feed.channel.value)
            self.invert.setChecked(feed.invert)
            self.ranges.setText(_range_text(feed))

    def _edit(self, change: Callable[[ChannelSource], ChannelSource], words: str) -> None:
        at = self._at

        def changed(lane: Lane) -> Lane:
            if not lane.feeds:
                return lane
            place = min(at, len(lane.feeds) - 1)
            feeds = tuple(change(feed) if n == place else feed for n, feed in enumerate(lane.feeds))
            return msgspec.structs.replace(lane, feeds=feeds)

        self.changed.emit(changed, words)

    def _take(self, channel: Channel | None, _: bool = True) -> None:
        name = _NAMES[self.place].lower()
        if channel is None:
            self.changed.emit(lambda lane: msgspec.structs.replace(lane, feeds=()), f"{name} filled")
        else:
            self._edit(lambda feed: msgspec.structs.replace(feed, channel=channel), f"{name} takes {channel.value}")

    def _turn(self, on: bool) -> None:
        words = f"{_NAMES[self.place].lower()} {'inverted' if on else 'as it is'}"
        self._edit(lambda feed: msgspec.structs.replace(feed, invert=on), words)

    def _fill(self) -> None:
        value = round(self.fill.value(), 3)
        if value != self._lane.fill:
            words = f"{_NAMES[self.place].lower()} filled with {value:g}"
            self.changed.emit(lambda lane: msgspec.structs.replace(lane, fill=value), words)

    def _open_ranges(self) -> None:
        """Open what is set less often: ranges, sRGB, how several sources combine, and leaving one out."""
        feed = self._feed
        if feed is None:
            return
        self._menu.clear()
        panel = QWidget()
        grid = QGridLayout(panel)
        boxes: list[QDoubleSpinBox] = []
        for line, (words, span) in enumerate((("of the source", feed.input), ("of the lane", feed.output))):
            grid.addWidget(QLabel(words), line, 0)
            for column, value in enumerate(span, 1):
                box = QDoubleSpinBox(minimum=0, maximum=1, singleStep=0.05, decimals=3, value=value)
                box.setAccessibleName(f"{'Low' if column == 1 else 'High'} {words}")
                grid.addWidget(box, line, column)
                boxes.append(box)
        decode = with_properties(
            QCheckBox("stored as sRGB, and holds data: bring it to linear values"), checked=feed.decode
        )
        grid.addWidget(decode, 2, 0, 1, 3)
        combine = with_properties(QComboBox(), accessibleName="How the sources combine")
        combine.addItems([row.value for row in Combine])
        combine.setCurrentText(self._lane.combine.value)
        if len(self._lane.feeds) > 1:
            grid.addWidget(QLabel("sources combine by"), 3, 0)
            grid.addWidget(combine, 3, 1, 1, 2)
        done = with_properties(QPushButton("Set"), objectName="primary")
        drop = QPushButton("Leave this source out")
        grid.addWidget(drop, 4, 0)
        grid.addWidget(done, 4, 1, 1, 2)
        action = QWidgetAction(self._menu)
        action.setDefaultWidget(panel)
        self._menu.addAction(action)
        at = self._at

        def take() -> None:
            self._menu.close()
            low, high, bottom, top = (round(box.value(), 3) for box in boxes)
            if low == high:
                high = min(1.0, low + 0.001)
                low = high - 0.001
            how = Combine(combine.currentText())

            def changed(lane: Lane) -> Lane:
                place = min(at, len(lane.feeds) - 1)
                feeds = tuple(
                    msgspec.structs.replace(f, input=(low, high), output=(bottom, top), decode=decode.isChecked())
                    if n == place
                    else f
                    for n, f in enumerate(lane.feeds)
                )
                return msgspec.structs.replace(lane, feeds=feeds, combine=how)

            self.changed.emit(changed, f"range of {_NAMES[self.place].lower()}")

        def leave() -> None:
            self._menu.close()
            self.changed.emit(
                lambda lane: msgspec.structs.replace(lane, feeds=lane.feeds[:at] + lane.feeds[at + 1 :]),
                f"one source less in {_NAMES[self.place].lower()}",
            )

        done.clicked.connect(take)
        drop.clicked.connect(leave)
        self._menu.popup(self.ranges.mapToGlobal(QPoint(0, self.ranges.height())))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.dropped.emit(event.mimeData().urls()[0].toLocalFile())


def _range_text(feed: ChannelSource) -> str:
    words = "–".join(f"{value:g}" for value in feed.input)
    if feed.output != (0.0, 1.0):
        words += " → " + "–".join(f"{value:g}" for value in feed.output)
    return words + (" sRGB" if feed.decode else "")
