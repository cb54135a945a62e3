"""What is seen while the program is read: the window's place and colours, and what is being loaded."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QApplication, QLabel, QProgressBar, QVBoxLayout, QWidget

from oaktrim.desk.look.properties import with_properties

# In this order each takes about as long as the others.
_STEPS = (
    ("oaktrim.core.kernels", "the compiler"),
    ("oaktrim.core.files.pictures", "pictures"),
    ("oaktrim.core.codecs.texture", "encoders"),
    ("oaktrim.core.survey.scan", "the survey"),
    ("oaktrim.core.sight.targets", "the renderer"),
    ("oaktrim.core.makers.shipped", "makers"),
    ("oaktrim.core.job.document", "jobs"),
    ("oaktrim.desk.benches.shipped", "benches"),
    ("oaktrim.desk.shell.window", "the window"),
)


class Loading(QWidget):
    """Stands where the window will stand."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("desk")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setWindowTitle("Oak Trim")
        self.resize(1280, 800)
        geometry = QSettings().value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self.words = with_properties(
            QLabel(alignment=Qt.AlignmentFlag.AlignCenter), objectName="soft", accessibleName="What is being loaded"
        )
        self.bar = with_properties(QProgressBar(), textVisible=False, accessibleName="How much is loaded")
        self.bar.setFixedSize(240, 6)
        self.bar.setRange(0, len(_STEPS))
        column = QVBoxLayout(self)
        column.addStretch(2)
        column.addWidget(
            with_properties(QLabel("Oak Trim", alignment=Qt.AlignmentFlag.AlignCenter), objectName="title")
        )
        column.addSpacing(8)
        column.addWidget(self.bar, alignment=Qt.AlignmentFlag.AlignCenter)
        column.addWidget(self.words)
        column.addStretch(3)

    def load(self, app: QApplication) -> Iterator[str]:
        """Load the program a part at a time, painting between; yields what was loaded."""
        for place, (module, words) in enumerate(_STEPS):
            self.words.setText(f"loading {words} …")
            self.bar.setValue(place)
            app.processEvents()
            import_module(module)
            yield module
