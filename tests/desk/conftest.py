"""A window on a small tree, driven as a person would."""

import numpy as np
import pytest
from PySide6.QtCore import QSettings, QThreadPool
from PySide6.QtWidgets import QApplication

from oaktrim.core.survey.cache import SurveyCache
from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.session.session import Session
from oaktrim.desk.shell.window import Window
from tests.kit.pictures import busy
from tests.kit.trees import put


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put(root, "wall/brick_base.png", busy(512, 512, 4).pixels)
    put(root, "wall/brick_n.png", size=(256, 256))
    put(root, "wall/plaster_base.png", size=(256, 128))
    put(root, "sign_overlay.png", size=(100, 60), channels=4)
    put(root, "flat_m.png", np.full((64, 64), 7, np.uint8))
    (root / "torn.png").write_bytes(b"\x89PNG\r\n\x1a\n12")
    return root


@pytest.fixture
def window(qtbot, tmp_path):
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    dress_application(QApplication.instance())
    made = Window(Session(cache=SurveyCache(tmp_path)))
    made.session.setParent(made)

    def put_away(widget):
        # Nobody is there to answer whether edits are to be saved.
        document = widget.session._document
        if document is not None:
            document._saved = document.history.job
        widget.session.stop()
        QThreadPool.globalInstance().waitForDone()

    qtbot.addWidget(made, before_close_func=put_away)
    made.show()
    return made


@pytest.fixture
def opened(qtbot, window, art):
    """The window with the tree open, Lounge watched."""
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(art)
    with qtbot.waitSignal(window.session.findings_changed, timeout=20000):
        window.session.watch("lounge")
    return window
