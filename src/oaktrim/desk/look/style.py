"""The style sheet, made of the tokens: paper-like surfaces, thin lines, few boxes."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication

from oaktrim.desk.look.tokens import tokens

BASE_PX, SMALL_PX, TITLE_PX = 12, 11, 15

_SHEET = """
* {{ font-size: 12px; color: {ink}; }}
QMainWindow, QWidget#desk, QWidget#rail, QDialog {{ background: {linen}; }}
QWidget#sheet, QFrame#sheet {{ background: {sheet}; }}
QFrame#band {{ background: {sheet}; border-top: 1px solid {line}; border-bottom: 1px solid {line}; }}
QFrame#swatch {{ background: {sheet}; border-left: 1px solid {line}; }}
QFrame#foot, QFrame#foot QLabel {{ background: {foot}; color: {foot_text}; }}
QWidget#bare {{ background: {sheet}; }}
QLabel#title {{ font-size: 15px; font-weight: bold; }}
QLabel#heading {{ font-size: 13px; font-weight: bold; }}
QLabel#key {{ color: {oak}; font-weight: bold; }}
QLabel#soft, QLabel#caption {{ color: {soft}; font-size: 11px; }}
QLabel#warning {{ color: {brick}; font-size: 11px; }}
QToolTip {{ background: {sheet}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
QPushButton, QToolButton, QComboBox, QAbstractSpinBox {{
  background: {sheet}; border: 1px solid {line}; border-radius: 2px; padding: 3px 9px; min-height: 18px; }}
QComboBox::drop-down {{ border: 0; width: 18px; }}
QComboBox::down-arrow {{ image: url({icons}/down.svg); width: 10px; height: 10px; }}
QAbstractSpinBox {{ padding-left: 8px; padding-right: 16px; min-width: 34px; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ border: 0; background: transparent; width: 16px; }}
QAbstractSpinBox::up-arrow {{ image: url({icons}/up.svg); width: 10px; height: 10px; }}
QAbstractSpinBox::down-arrow {{ image: url({icons}/down.svg); width: 10px; height: 10px; }}
QPushButton:hover, QToolButton:hover, QComboBox:hover {{ border-color: {soft}; }}
QPushButton:focus, QToolButton:focus, QComboBox:focus, QAbstractSpinBox:focus, QLineEdit:focus {{ border-color: {oak}; }}
QPushButton:checked, QToolButton:checked {{ background: {ink}; color: {sheet}; border-color: {ink}; }}
QPushButton:disabled, QToolButton:disabled, QComboBox:disabled, QAbstractSpinBox:disabled {{ color: {soft}; background: {linen}; }}
QPushButton#primary {{ background: {oak}; color: {on_oak}; border-color: {oak}; font-weight: bold; }}
QPushButton#primary:disabled {{ background: {line}; border-color: {line}; color: {soft}; }}
QPushButton#chip {{ border-radius: 2px; padding: 2px 8px; background: {sheet}; }}
QPushButton#chip:checked {{ background: {ink}; color: {sheet}; }}
QPushButton#bench {{ border: 0; border-left: 4px solid transparent; border-radius: 0; padding: 7px 8px 7px 10px;
  text-align: left; background: transparent; min-height: 20px; }}
QPushButton#bench:checked {{ background: {sheet}; color: {ink}; border-left-color: {oak}; font-weight: bold; }}
QPushButton#bench:hover {{ background: {stripe}; }}
QPushButton#bench:focus {{ background: {stripe}; border-left-color: {soft}; }}
QPushButton#bench:checked:focus {{ border-left-color: {oak}; }}
QPushButton#plain, QToolButton#plain {{ background: transparent; border-color: transparent; }}
QPushButton#plain:hover, QToolButton#plain:hover {{ border-color: {line}; }}
QLineEdit {{ background: {sheet}; border: 1px solid {line}; border-radius: 2px; padding: 4px 8px;
  selection-background-color: {oak_pale}; selection-color: {ink}; }}
QLineEdit[wrong="true"] {{ border: 2px solid {brick}; }}
QTableView, QListWidget, QListView {{ background: {sheet}; alternate-background-color: {stripe}; border: 0;
  gridline-color: transparent; selection-background-color: {oak_pale}; selection-color: {ink}; outline: 0; }}
QTableView:focus, QListWidget:focus {{ border: 0; }}
QListWidget::item {{ padding: 4px 6px; }}
QListWidget::item:selected {{ background: {oak_pale}; color: {ink}; }}
QHeaderView {{ background: {sheet}; }}
QHeaderView::section {{ background: {sheet}; color: {soft}; border: 0; border-bottom: 2px solid {ink};
  padding: 5px 6px; font-size: 11px; font-weight: bold; }}
QHeaderView::down-arrow {{ image: url({icons}/down.svg); width: 9px; height: 9px; subcontrol-position: center left; }}
QHeaderView::up-arrow {{ image: url({icons}/up.svg); width: 9px; height: 9px; subcontrol-position: center left; }}
QTableCornerButton::section {{ background: {sheet}; border: 0; }}
QScrollBar:vertical {{ background: {sheet}; width: 12px; margin: 0; }}
QScrollBar:horizontal {{ background: {sheet}; height: 12px; margin: 0; }}
QScrollBar::handle {{ background: {line}; border-radius: 2px; min-height: 28px; min-width: 28px; margin: 2px; }}
QScrollBar::handle:hover {{ background: {soft}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSlider::groove:horizontal {{ height: 4px; background: {line}; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {oak_pale}; border-radius: 2px; }}
QSlider::handle:horizontal {{ background: {oak}; width: 10px; height: 18px; margin: -7px 0; border-radius: 2px; }}
QSlider::handle:horizontal:disabled {{ background: {line}; }}
QSlider::handle:horizontal:focus {{ background: {ink}; }}
QProgressBar {{ background: {oak_pale}; border: 1px solid {line}; border-radius: 2px; text-align: center; height: 18px; }}
QProgressBar::chunk {{ background: {oak}; }}
QMenu {{ background: {sheet}; border: 1px solid {line}; padding: 4px; }}
QMenu::item {{ padding: 5px 24px 5px 12px; }}
QMenu::item:selected {{ background: {oak_pale}; }}
QMenu::separator {{ height: 1px; background: {line}; margin: 4px 8px; }}
QComboBox QAbstractItemView {{ background: {sheet}; border: 1px solid {line}; selection-background-color: {oak_pale};
  selection-color: {ink}; }}
QFrame#foot QPushButton {{ background: {foot}; color: {foot_text}; border-color: {soft}; }}
QFrame#foot QPushButton:hover {{ border-color: {foot_text}; }}
QFrame#foot QPushButton:focus {{ border-color: {oak}; }}
QFrame#foot QPushButton:checked {{ background: {foot_text}; color: {foot}; }}
QFrame#foot QPushButton:disabled {{ color: {soft}; border-color: {soft}; }}
QFrame#foot QPushButton#primary {{ background: {oak}; color: {on_oak}; border-color: {oak}; }}
QFrame#foot QPushButton#primary:disabled {{ background: {foot}; color: {soft}; border-color: {soft}; }}
QSplitter::handle {{ background: {line}; }}
"""


def apply_style(app: QApplication) -> None:
    """Dress the application in the theme in use."""
    now, icons = tokens(), Path(str(files("oaktrim.desk.look") / "icons")).as_posix()
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, now.linen),
        (QPalette.ColorRole.Base, now.sheet),
        (QPalette.ColorRole.AlternateBase, now.stripe),
        (QPalette.ColorRole.Text, now.ink),
        (QPalette.ColorRole.WindowText, now.ink),
        (QPalette.ColorRole.Button, now.sheet),
        (QPalette.ColorRole.ButtonText, now.ink),
        (QPalette.ColorRole.Highlight, now.oak_pale),
        (QPalette.ColorRole.HighlightedText, now.ink),
        (QPalette.ColorRole.PlaceholderText, now.soft),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    app.setStyleSheet(_SHEET.format(**vars(now), icons=icons))
