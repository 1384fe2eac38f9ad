"""The two themes, Linen and Dusk, the fonts, and the style of standard widgets.

No other module has a colour.
"""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication


class Theme(Struct, frozen=True):
    """The colours of one theme, as ``#RRGGBB``.

    ``…_text`` are for text, the others for fills and lines.
    """

    name: str
    ground: str
    panel: str
    line: str
    ink: str
    twine: str
    muted: str
    block: str
    block_edge: str
    chosen: str
    trough: str
    held: str
    held_text: str
    copied: str
    loose: str
    loose_text: str
    missing: str
    missing_text: str
    away: str
    away_text: str
    unused: str
    unused_text: str
    remakeable: str
    remakeable_text: str
    on_ink: str

    def color(self, field: str) -> QColor:
        """A colour for painting."""
        return QColor(getattr(self, field))


LINEN = Theme(
    "Linen",
    ground="#F5F1E8",
    panel="#FBF9F4",
    line="#D8D1C2",
    ink="#21303A",
    twine="#6B4E2E",
    muted="#57636C",
    block="#DBD3C3",
    block_edge="#B4AA94",
    chosen="#ECE5D6",
    trough="#E3DDCE",
    held="#1F7A74",
    held_text="#17665F",
    copied="#A0BDB1",
    loose="#C98A1B",
    loose_text="#875808",
    missing="#C8432B",
    missing_text="#A83420",
    away="#7C8DA0",
    away_text="#54657A",
    unused="#B9B2A3",
    unused_text="#6B6456",
    remakeable="#7A5C8E",
    remakeable_text="#6A4C7E",
    on_ink="#FBF9F4",
)
DUSK = Theme(
    "Dusk",
    ground="#1B2329",
    panel="#232D34",
    line="#3A464F",
    ink="#E9E4D8",
    twine="#C9A877",
    muted="#A3AFB7",
    block="#33404A",
    block_edge="#5A6873",
    chosen="#2A353D",
    trough="#2C373F",
    held="#4FB5AC",
    held_text="#4FB5AC",
    copied="#39655F",
    loose="#E0AC4A",
    loose_text="#E0AC4A",
    missing="#F0806A",
    missing_text="#F0806A",
    away="#94A8BE",
    away_text="#94A8BE",
    unused="#A39B8B",
    unused_text="#A39B8B",
    remakeable="#B79ACB",
    remakeable_text="#B79ACB",
    on_ink="#1B2329",
)
THEMES = {t.name: t for t in (LINEN, DUSK)}
TEXTS = (
    "ink",
    "muted",
    "held_text",
    "loose_text",
    "missing_text",
    "away_text",
    "unused_text",
    "remakeable_text",
    "twine",
)
GROUNDS = ("ground", "panel")

_active = [LINEN]


def active() -> Theme:
    """The present theme of the window."""
    return _active[0]


def contrast(one: str, other: str) -> float:
    """The contrast ratio of two colours, 1 to 21 (WCAG 2.2, relative luminance)."""

    def luminance(colour: str) -> float:
        parts = (int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5))
        r, g, b = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
        return 0.2126 * r + 0.7152 * g + 0.0722 * b

    a, b = sorted((luminance(one), luminance(other)), reverse=True)
    return (a + 0.05) / (b + 0.05)


def load_fonts() -> None:
    """Loads the shipped font."""
    for file in resources.files("fascis.desktop").joinpath("fonts").iterdir():
        if file.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(file.read_bytes())


def font(size: float = 13, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Inter at a size in pixels, with tabular figures."""
    made = QFont("Inter")
    made.setPixelSize(round(size))
    made.setWeight(weight)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


BOLD, NORMAL = QFont.Weight.DemiBold, QFont.Weight.Normal


def apply(application: QApplication, theme: Theme) -> None:
    """Gives the whole application a theme, if it has another one."""
    if theme is _active[0] and application.styleSheet():
        # A style sheet is compared with every widget anew, also with what it was.
        return
    _active[0] = theme
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: theme.ground,
        QPalette.ColorRole.WindowText: theme.ink,
        QPalette.ColorRole.Base: theme.panel,
        QPalette.ColorRole.AlternateBase: theme.ground,
        QPalette.ColorRole.Text: theme.ink,
        QPalette.ColorRole.Button: theme.panel,
        QPalette.ColorRole.ButtonText: theme.ink,
        QPalette.ColorRole.Highlight: theme.chosen,
        QPalette.ColorRole.HighlightedText: theme.ink,
        QPalette.ColorRole.ToolTipBase: theme.panel,
        QPalette.ColorRole.ToolTipText: theme.ink,
        QPalette.ColorRole.PlaceholderText: theme.muted,
        QPalette.ColorRole.Link: theme.ink,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    application.setPalette(palette)
    application.setFont(font())
    application.setStyleSheet(_style(theme))


def _style(t: Theme) -> str:
    values = asdict(t)
    check = resources.files("fascis.desktop").joinpath(f"pictures/check-{t.name.lower()}.svg")
    return (
        _STYLE.replace("CHECK", Path(str(check)).as_posix())
        .replace("{{", "\0")
        .replace("}}", "\1")
        .format(**values)
        .replace("\0", "{")
        .replace("\1", "}")
    )


_STYLE = """
QWidget {{ color: {ink}; font-family: Inter; font-size: 13px; }}
QMainWindow, #ground {{ background: {ground}; }}
#top, #panel, #panel QWidget#inner {{ background: {panel}; }}
#top {{ border-bottom: 1px solid {line}; }}
#panel {{ border-left: 1px solid {line}; }}
#foot {{ border-top: 1px solid {line}; color: {muted}; background: {ground}; padding-left: 18px; }}
#offer {{ background: {chosen}; border-bottom: 1px solid {line}; }}
#name {{ font-size: 17px; font-weight: 600; }}
#pulse, [quiet="true"] {{ color: {muted}; }}
[quiet="true"] {{ font-size: 12px; }}
[title="true"] {{ font-size: 20px; font-weight: 600; }}
[head="true"] {{ font-weight: 600; }}
[figure="true"] {{ font-size: 20px; font-weight: 600; }}
[wrong="true"] {{ color: {missing_text}; font-weight: 600; }}
[well="true"] {{ color: {held_text}; font-weight: 600; }}
QPushButton {{ border: 1px solid {line}; border-radius: 7px; padding: 8px 14px;
 background: {panel}; }}
QPushButton:hover {{ background: {chosen}; }}
QPushButton:focus {{ border: 2px solid {ink}; padding: 7px 13px; }}
QPushButton:disabled {{ color: {muted}; }}
QPushButton[main="true"] {{ background: {ink}; color: {on_ink}; border: 2px solid {ink};
 font-weight: 600; padding: 9px 14px; }}
QPushButton[main="true"]:focus {{ border: 2px solid {twine}; }}
QPushButton[main="true"]:disabled {{ background: {trough}; color: {muted}; border-color: {trough};
 }}
QPushButton[delete="true"] {{ color: {missing_text}; border: 1px solid {missing_text};
 background: {panel}; font-weight: 600; }}
QPushButton[delete="true"]:focus {{ border: 2px solid {missing_text}; }}
QPushButton[delete="true"]:disabled {{ color: {muted}; border-color: {line}; }}
QPushButton[place="true"] {{ border: 0; border-radius: 6px; padding: 7px 12px; color: {muted};
 background: transparent; }}
QPushButton[place="true"]:hover {{ color: {ink}; }}
QPushButton[place="true"]:checked {{ background: {chosen}; color: {ink}; font-weight: 600; }}
QPushButton[place="true"]:focus {{ border: 1px solid {ink}; padding: 6px 11px; }}
QPushButton[link="true"] {{ border: 0; padding: 2px 0; background: transparent; font-weight: 600;
 text-decoration: underline; text-align: left; }}
QPushButton[link="true"]:focus {{ border: 1px solid {ink}; border-radius: 3px; }}
QPushButton[chip="true"] {{ border: 0; border-radius: 5px; padding: 4px 8px;
 background: transparent; font-weight: 400; }}
QPushButton[chip="true"]:checked {{ background: {chosen}; font-weight: 600; }}
QPushButton[chip="true"]:focus {{ border: 1px solid {ink}; padding: 3px 7px; }}
QPushButton[standing="held"] {{ color: {held_text};
 }} QPushButton[standing="loose"] {{ color: {loose_text}; }}
QPushButton[standing="missing"] {{ color: {missing_text};
 }} QPushButton[standing="away"] {{ color: {away_text}; }}
QPushButton[standing="unused"] {{ color: {unused_text}; }}
#card {{ background: {ground}; border: 1px solid {line}; border-radius: 6px; }}
#picture {{ background: {trough}; border-radius: 4px; color: {muted}; }}
QSplitter::handle {{ background: {line}; height: 1px; }}
QPushButton[mark="true"] {{ border: 0; background: transparent; padding: 4px; }}
QPushButton[mark="true"]:focus {{ border: 1px solid {ink}; }}
QPushButton::menu-indicator {{ width: 0; }}
QLineEdit {{ border: 1px solid {block_edge}; border-radius: 5px; padding: 5px 8px;
 background: {panel}; selection-background-color: {chosen}; selection-color: {ink}; }}
QLineEdit:focus {{ border: 2px solid {ink}; padding: 4px 7px; }}
QCheckBox, QRadioButton {{ spacing: 9px; background: transparent; }}
QCheckBox::indicator, QRadioButton::indicator {{ width: 13px; height: 13px;
 border: 1.5px solid {ink}; background: {panel}; }}
QCheckBox::indicator {{ border-radius: 3px; }}
QRadioButton::indicator {{ border-radius: 8px; }}
QCheckBox::indicator:checked {{ background: {ink}; image: url(CHECK); }}
QRadioButton::indicator:checked {{ background: qradialgradient(cx:0.5, cy:0.5, radius:0.5, fx:0.5,
 fy:0.5, stop:0 {panel}, stop:0.42 {panel}, stop:0.5 {ink}, stop:1 {ink}); }}
QCheckBox:focus, QRadioButton:focus {{ text-decoration: underline; }}
QCheckBox:disabled, QRadioButton:disabled {{ color: {muted}; }}
QScrollArea {{ border: 0; background: transparent; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {block_edge}; border-radius: 4px; min-height: 30px;
 margin: 1px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
QTableView {{ border: 0; background: {ground}; gridline-color: {line};
 selection-background-color: {chosen}; selection-color: {ink}; }}
QTableView::item {{ padding: 4px 8px; border-bottom: 1px solid {line}; }}
QHeaderView::section {{ background: {ground}; border: 0; border-bottom: 1px solid {line};
 padding: 4px 8px; color: {muted}; font-weight: 600; }}
QListWidget {{ border: 0; background: {ground}; outline: 0; }}
QListWidget::item {{ padding: 9px 12px; border-bottom: 1px solid {line}; }}
QListWidget::item:selected {{ background: {chosen}; color: {ink}; }}
QTextBrowser {{ border: 0; background: {ground}; }}
QMenu {{ background: {panel}; border: 1px solid {line}; padding: 5px; }}
QMenu::item {{ padding: 6px 18px; }}
QMenu::item:selected {{ background: {chosen}; }}
QToolTip {{ background: {panel}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
#upright {{ background: {line}; max-width: 1px; min-width: 1px; border: 0; }}
#rule {{ background: {line}; max-height: 1px; min-height: 1px; border: 0; }}
"""
