"""The pages of the Help menu: keys as the commands have them, the sheet language by example, what this is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import PYQT_VERSION_STR, QT_VERSION_STR, Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from eager_tern import __version__
from eager_tern.desk.links import link
from eager_tern.desk.settings import settings_path
from eager_tern.desk.theme import digit_font
from eager_tern.desk.words import Words
from eager_tern.places import casebooks_folder, log_path, sheets_folder
from eager_tern.protocol.sheet_help import GENERAL, KEYS, TABLES
from eager_tern.session.commands import Commands
from eager_tern.texts import tr

Rows = Sequence[tuple[str, str]]
LEFT_WIDTH, RIGHT_WIDTH = 250, 640
# Keys that belong to a view rather than to a command.
ELSEWHERE: Rows = (
    (tr("Return"), tr("type a label: in the log, on a row of the stack")),
    (tr("Up, Down"), tr("another press, row or key")),
    (tr("Delete"), tr("delete the selected presses; take a key that was never caught off the plate")),
    (tr("Esc"), tr("leave what is being typed as it was")),
)
IN_PRESS = ("first", "held", "count", "period_us", "gap_us")
IN_FRAMES = ("parts", "repeat", "inverts")
IN_FIELDS = (
    "name", "bits", "role", "encoding", "scale", "offset", "decimals", "unit", "base", "table", "when", "otherwise",
    "seen", "default", "digits", "width",
)  # fmt: skip
IN_CHECKS = (
    "kind", "at", "of", "covers", "value", "order", "init", "by", "seeds", "negate", "carry", "swap", "columns", "poly",
    "reflect_in", "reflect_out", "xor_out",
)  # fmt: skip


class HelpPage(QScrollArea):
    """A title, and groups of rows in two columns; in ``exact`` pages the left one is what is typed."""

    closed = pyqtSignal()

    def __init__(self, title: str, groups: Sequence[tuple[str, Rows]], exact: bool = False) -> None:
        super().__init__()
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setAccessibleName(title)
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(40, 28, 40, 28)
        layout.setSpacing(14)
        words = Words(title)
        words.setObjectName("title")
        top = QHBoxLayout()
        top.addWidget(words)
        top.addStretch(1)
        top.addWidget(link(tr("back to the desk"), tr("Back to the desk"), self.closed.emit))
        layout.addLayout(top)
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(4)
        grid.setColumnStretch(2, 1)
        row = 0
        for name, rows in groups:
            row = _group(grid, row, name, rows, exact)
        layout.addLayout(grid)
        layout.addStretch(1)
        self.setWidget(inner)


def keys_page(commands: Commands, groups: Mapping[str, tuple[str, ...]]) -> HelpPage:
    """A group a menu, and one for the keys of the views."""
    rows = [
        (name, [(_shown(commands[each].key), commands[each].plain) for each in ids if commands[each].key])
        for name, ids in groups.items()
    ]
    return HelpPage(tr("Keys"), [*rows, (tr("In the views"), ELSEWHERE)])


def sheet_page() -> HelpPage:
    """Every key of the sheet language with an example."""
    several = {"[press]": IN_PRESS, "[[frames]]": IN_FRAMES, "[[fields]], [[texts]], [[lists]]": IN_FIELDS}
    nested = {name for names in (*several.values(), IN_CHECKS) for name in names}
    top = [name for name in KEYS if name not in nested]
    groups = {"At the top": top, **several, "[[checks]]": IN_CHECKS}
    rows = [(title, [(name, KEYS[name]) for name in names]) for title, names in groups.items()]
    general = [("", GENERAL), *((f"[{name}]", words) for name, words in TABLES.items())]
    return HelpPage(tr("The sheet language"), [("", general), *rows], exact=True)


def about_page() -> HelpPage:
    """Version, licences, and where things are."""
    version = tr(
        "{version}, with Qt {qt} and PyQt {pyqt}", version=__version__, qt=QT_VERSION_STR, pyqt=PYQT_VERSION_STR
    )
    return HelpPage(
        "Eager Tern",
        [
            ("", [(tr("version"), version)]),
            (
                tr("Licences"),
                [
                    ("Eager Tern", tr("GPL-3.0-or-later: use it, change it, pass it on under the same terms")),
                    ("B612, B612 Mono", tr("the typefaces, made for cockpit displays: SIL Open Font License 1.1")),
                    (tr("what you take home"), tr("is yours, without any condition")),
                ],
            ),
            (
                tr("Where things are"),
                [
                    (tr("your own sheets"), str(sheets_folder())),
                    (tr("casebooks not named yet"), str(casebooks_folder())),
                    (tr("what the desk remembers"), str(settings_path())),
                    (tr("what went wrong"), str(log_path())),
                ],
            ),
        ],
    )


def _shown(key: str) -> str:
    return QKeySequence(key).toString(QKeySequence.SequenceFormat.NativeText)


def _group(grid: QGridLayout, row: int, name: str, rows: Rows, exact: bool) -> int:
    """Put a group on the grid. Gives the next free row."""
    if not rows:
        return row
    heading = Words(name if "[" in name else name.upper())
    heading.setObjectName("heading")
    grid.addWidget(heading, row, 0, 1, 2)
    for at, (left, right) in enumerate(rows, row + 1):
        what, words = Words(left), Words(right)
        what.setMaximumWidth(LEFT_WIDTH)
        words.setWordWrap(True)
        words.setMinimumWidth(RIGHT_WIDTH)
        words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        if exact:
            what.setFont(digit_font())
        grid.addWidget(what, at, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(words, at, 1)
    grid.setRowMinimumHeight(row + len(rows) + 1, 10)
    return row + len(rows) + 2
