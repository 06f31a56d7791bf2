"""The Stack leaf: the gadget's frames under one another, and the search for what their bits mean."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import (
    QApplication,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.changes import Dismiss, KeepSheet, Label
from eager_tern.casebook.shots import Shot
from eager_tern.casebook.stacks import (
    KEY,
    CopiedAs,
    Cut,
    copied_rows,
    cuts_of,
    pasted_labels,
    short_label,
    stack_of,
    usual_labels,
)
from eager_tern.casebook.values import Caught, Gadget
from eager_tern.compare.asking import Wanted, next_shots
from eager_tern.compare.comparison import Comparison
from eager_tern.compare.proof import Proof
from eager_tern.compare.stack import Stack, label_word
from eager_tern.compare.writeup import write_up
from eager_tern.compare.writing import sheet_of
from eager_tern.desk.cards import Card
from eager_tern.desk.comparing import Comparing
from eager_tern.desk.comparison_cards import cards_for_comparison
from eager_tern.desk.document import Document
from eager_tern.desk.links import link
from eager_tern.desk.over_time import OverTime
from eager_tern.desk.stack_grid import AGAINST, StackGrid
from eager_tern.desk.ways import SHOWN, Way
from eager_tern.desk.words import plural
from eager_tern.errors import InputError
from eager_tern.intake.publishing import publish
from eager_tern.protocol.describing import describe_line
from eager_tern.protocol.loading import parse_sheet

IN_ORDER = "shooting order"
TURNS = ("turned", "inverted", "in nibbles")
OVER_TIME = "over time"
LINE_FRAMES = 8  # from which the line is described
FEWEST = 4


class StackLeaf(QWidget):
    """Rows at the top, what was found in words below, the cards beside in the findings."""

    said = pyqtSignal(str)
    shots_asked = pyqtSignal(object)  # list[Shot]
    found_out = pyqtSignal(object, str)  # cards about the stack and their heading; None: nothing is known

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._presses: list[Caught] = []
        self._work: Comparing | None = None
        self._dismissed: frozenset[str] = frozenset()
        self._of_gadget: Gadget | None = None
        self.comparison: Comparison | None = None
        self.proof: Proof | None = None
        self.grid = StackGrid()
        self.against = _choice("Compared with", [f"the {each}" for each in AGAINST])
        self.of = _choice("Frames stacked", [])
        self._set_apart = QLabel()
        self._as_words = QLabel("as")
        self._kinds = QWidget()  # shown where frames of several kinds were caught
        self._cut: Cut | None = None
        self._cuts: list[Cut] = []
        self.sort = _choice("Sorted by", [IN_ORDER])
        self.show_as = _choice("Shown as", [*SHOWN, OVER_TIME])
        self.turned, self.inverted, self.in_nibbles = (QAction(words, self) for words in TURNS)
        self.turns = QToolButton()
        self.turns.setAccessibleName("Order of the bits shown")
        self.turns.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.turns)
        for action in (self.turned, self.inverted, self.in_nibbles):
            action.setCheckable(True)
            action.triggered.connect(self._show_way)
            menu.addAction(action)
        self.turns.setMenu(menu)
        self.over_time = OverTime()
        self.over_time.hide()
        self.find = QPushButton("Find out")
        self.find.setToolTip("Look for fields, checks and counters, and prove what is found")
        self.find.clicked.connect(self.search)
        self.keep = link("keep as the gadget's sheet", "Keep what was found", self.keep_sheet)
        self.write = link("write it up …", "Write the gadget up to be published", self.ask_publish)
        self.back = link("bring back", "Bring back the findings that were dismissed", self.bring_back)
        self.plan = link("plan the next shots", "Plan the presses that would settle the most", self.plan_shots)
        self.copy = link("copy the rows", "Copy the rows as a table", self.copy_rows)
        self.copy.setToolTip("As a table; a right click on the rows copies them as CSV or for NumPy")
        self.words = QLabel()
        self.words.setWordWrap(True)
        kinds = QHBoxLayout(self._kinds)
        kinds.setContentsMargins(18, 14, 14, 0)
        kinds.setSpacing(6)
        kinds.addWidget(QLabel("frames of"))
        kinds.addWidget(self.of)
        kinds.addSpacing(6)
        kinds.addWidget(self._set_apart, 1)
        row = QHBoxLayout()
        row.setContentsMargins(18, 14, 14, 0)
        row.setSpacing(6)
        for words, box in (
            (QLabel("against"), self.against),
            (QLabel("by"), self.sort),
            (self._as_words, self.show_as),
        ):
            row.addWidget(words)
            row.addWidget(box)
            row.addSpacing(6)
        row.addWidget(self.turns)
        row.addStretch(1)
        bar = QHBoxLayout()
        bar.setContentsMargins(18, 4, 14, 0)
        bar.setSpacing(16)
        bar.addWidget(self.find)
        bar.addWidget(self.words, 1)
        links = QHBoxLayout()
        links.setContentsMargins(18, 0, 14, 10)
        links.setSpacing(16)
        links.addStretch(1)
        for each in (self.back, self.copy, self.write, self.plan, self.keep):
            links.addWidget(each)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self._kinds)
        layout.addLayout(row)
        layout.addWidget(self.grid, 1)
        layout.addWidget(self.over_time, 1)
        layout.addLayout(bar)
        layout.addLayout(links)
        self.of.activated.connect(self._take_cut)
        self.against.activated.connect(self._hold_against)
        self.sort.activated.connect(self._sort)
        self.show_as.activated.connect(self._show_as)
        self.grid.chosen.connect(self._choose)
        self.grid.range_chosen.connect(self._tell_way)
        self.grid.copied.connect(self.copy_rows)
        self.grid.pasted.connect(self.paste_labels)
        self.grid.filled_down.connect(self.fill_down)
        self.grid.labelled.connect(lambda row, text: document.label(self._presses[row].id, text))
        document.opened.connect(self.refresh)
        document.presses_changed.connect(self.refresh)
        document.press_changed.connect(self.refresh)
        document.selection_changed.connect(self._show_selection)
        self._tell_way()
        self.refresh()

    def refresh(self) -> None:
        """Look at the gadget's presses anew; what was found about other rows or labels is looked for again."""
        if not self.isVisible():
            self._presses = []
            self._forget()
            return
        presses = self._document.shown_presses()
        self._show_cuts(cuts_of(presses))
        stack, rows, apart = stack_of(presses, self._cut)
        self._set_apart.setText(f"{plural(len(apart), 'frame')} of another kind set apart" if apart else "")
        dismissed = self._document.dismissed()
        believed = dismissed == self._dismissed
        changed = self.comparison is None or not _same(self.comparison.stack, stack) or not believed
        self._presses, self._dismissed = rows, dismissed
        another = self._of_gadget != self._document.gadget
        self._of_gadget = self._document.gadget
        chosen = self.sort.currentText()
        self.sort.clear()
        self.sort.addItems([IN_ORDER, *stack.labels])
        self.sort.setCurrentText(chosen if chosen in stack.labels else IN_ORDER)
        labels = [press.label for press in rows]
        usual = usual_labels(labels)
        self.grid.show_stack(stack, [short_label(text, usual) for text in labels], labels, self._order(stack))
        if changed:
            again = self.comparison is not None or self._work is not None
            self._forget()
            if again and not another:
                self.search()
        elif self.proof is not None:
            self.grid.expect(self.proof.expected)
        if self.over_time.isVisible():
            self._draw_over_time()
        self._show_selection()

    def _show_cuts(self, cuts: list[Cut]) -> None:
        """Which frames can be stacked; the choice is offered where there is one."""
        self._cut = self._cut if self._cut in cuts else next(iter(cuts), None)
        self._cuts = cuts
        self.of.clear()
        self.of.addItems([cut.words for cut in cuts])
        self.of.setCurrentIndex(cuts.index(self._cut) if self._cut is not None else -1)
        self._kinds.setVisible(len(cuts) > 1)

    def _take_cut(self, at: int) -> None:
        self._cut = self._cuts[at]
        self.refresh()

    @property
    def _is_whole(self) -> bool:
        """Whether whole frames are stacked, which a sheet can describe."""
        return self._cut is None or self._cut.section is None

    def showEvent(self, event: object) -> None:
        if not self._presses:
            self.refresh()
        self._tell()

    def _forget(self) -> None:
        self.stop()
        self.comparison = self.proof = None
        self.grid.show_findings(None)
        self.grid.expect(None)
        self._tell()

    def _order(self, stack: Stack) -> np.ndarray:
        name = self.sort.currentText()
        if name not in stack.labels:
            return np.arange(stack.rows)
        values = stack.labels[name]
        # Numbers by size, words by their letters, rows without either last.
        ranks = [(value is None, value if isinstance(value, float) else 0.0, str(value)) for value in values]
        return np.array(sorted(range(stack.rows), key=ranks.__getitem__), np.intp)

    def _sort(self) -> None:
        self.grid.sort(self._order(self.grid.stack))

    def _show_as(self, at: int) -> None:
        over_time = self.show_as.itemText(at) == OVER_TIME
        self.grid.setVisible(not over_time)
        self.over_time.setVisible(over_time)
        for box in (self.against, self.sort, self.turns):
            box.setEnabled(not over_time)
        if over_time:
            self._draw_over_time()
            return
        self._show_way()

    def _show_way(self) -> None:
        """The bits in the way chosen: those of a range, if one is chosen, else all."""
        shown = SHOWN[min(self.show_as.currentIndex(), len(SHOWN) - 1)]
        group = 4 if self.in_nibbles.isChecked() else 8
        self.grid.show_as(Way(shown, self.turned.isChecked(), self.inverted.isChecked(), group))
        self._tell_way()

    def _tell_way(self) -> None:
        """How the chosen columns are shown."""
        columns = self.grid.range
        way = self.grid.own.get(columns, self.grid.way) if columns is not None else self.grid.way
        if self.show_as.currentText() != OVER_TIME:
            self.show_as.setCurrentIndex(SHOWN.index(way.shown))
        for action, on in ((self.turned, way.turned), (self.inverted, way.inverted), (self.in_nibbles, way.group == 4)):
            action.setChecked(on)
        said = [action.text() for action in (self.turned, self.inverted, self.in_nibbles) if action.isChecked()]
        self.turns.setText((", ".join(said) or "as sent") + " ▾")
        self._as_words.setText(f"bits {columns[0]}–{columns[1]} as" if columns is not None else "as")

    def _draw_over_time(self) -> None:
        times = np.array([press.caught_at for press in self._presses])
        self.over_time.show_stack(self.grid.stack, times, self.comparison)

    def show_over_time(self) -> None:
        """Draw the numbers instead of the rows."""
        self.show_as.setCurrentText(OVER_TIME)
        self._show_as(self.show_as.currentIndex())

    def hold_against(self, against: str) -> None:
        """Show the grid, its rows held against something."""
        self.grid.choose_range(None)
        self.show_as.setCurrentIndex(0)
        self._show_as(0)
        self.against.setCurrentIndex(AGAINST.index(against))
        self.grid.hold_against(AGAINST[self.against.currentIndex()])

    def _hold_against(self, at: int) -> None:
        if AGAINST[at] == "label" and self.proof is None:
            self.said.emit("What is expected is known once fields and checks are found: press “Find out” first.")
        self.grid.hold_against(AGAINST[at])

    def _choose(self, row: int, added: bool) -> None:
        press_id = self._presses[row].id
        now = self._document.selected if added else ()
        self._document.select((*(i for i in now if i != press_id), press_id))

    def _show_selection(self) -> None:
        if not self._presses:
            return
        chosen = set(self._document.selected)
        self.grid.selected = {row for row, press in enumerate(self._presses) if press.id in chosen}
        self.grid.viewport().update()
        if self.isVisible() and self.comparison is not None:
            self._tell()

    # Finding out

    def search(self) -> None:
        """Begin the search; what is found comes by itself."""
        self.stop()
        self._work = Comparing(self.grid.stack, self._dismissed)
        self._work.found.connect(self._found)
        self._work.proved.connect(self._proved)
        self.words.setText("Looking for fields, checks and counters …")
        self.find.setEnabled(False)
        self._work.start()

    def dismiss(self, finding: str) -> None:
        """Leave a finding out, and look what follows without it."""
        self._believe_all_but(self._dismissed | {finding})

    def bring_back(self) -> None:
        """Believe again what was dismissed."""
        self._believe_all_but(frozenset())

    def _believe_all_but(self, findings: frozenset[str]) -> None:
        if self._document.gadget is not None:
            self._document.change(Dismiss(self._document.gadget.id, findings))

    def stop(self) -> None:
        """Give a search up."""
        if self._work is not None:
            self._work.give_up()
            self._work = None

    def _found(self, found: Comparison) -> None:
        self.comparison = found
        self.grid.show_findings(found)
        if self.over_time.isVisible():
            self._draw_over_time()
        self._tell()

    def _proved(self, proof: Proof) -> None:
        self.proof = proof
        self.grid.expect(proof.expected)
        self._tell()

    def _tell(self) -> None:
        stack = self.grid.stack
        self.find.setEnabled(stack.rows >= FEWEST)
        self.keep.setVisible(self.comparison is not None and self._is_whole)
        self.back.setVisible(self.comparison is not None and bool(self._dismissed))
        self.back.setText(f"bring {len(self._dismissed)} dismissed back")
        self.write.setVisible(self.comparison is not None and self._is_whole)
        wanted = self._wanted()
        self.plan.setVisible(bool(wanted))
        self.plan.setToolTip("\n".join(ask.why for ask in wanted))
        if stack.rows < FEWEST:
            self.words.setText(f"{plural(stack.rows, 'frame')}: catch and label at least {FEWEST}, then compare them.")
        elif self.comparison is None:
            text = f"{plural(stack.rows, 'frame')} of {stack.columns} bits, {len(stack.varying)} of which change."
            if not stack.labels:
                text += " Label the presses with what you set, as in “temperature = 21, mode = dry”."
            self.words.setText(text)
        else:
            text = f"explained {self.comparison.explained} of {len(stack.varying)} changing bits"
            if self.proof is not None:
                text += f" · {self.proof.words}"
            self.words.setText(text)
        if self.isVisible():
            cards: list[Card] | None = None
            if self.comparison is not None:
                cards = cards_for_comparison(self.comparison, self.grid.names)
            self.found_out.emit(cards, f"FINDINGS ABOUT {stack.rows} FRAMES")

    def keep_sheet(self) -> None:
        """What was found becomes the gadget's sheet; everything is read again with it."""
        gadget = self._document.gadget
        if self.comparison is None or gadget is None:
            return
        text = self._sheet_text()
        if text is not None:
            self._document.change(KeepSheet(gadget.id, parse_sheet(text, "what was found").id, text))

    def _sheet_text(self) -> str | None:
        """What was found, as a sheet; None, and told, where no line code is clear."""
        gadget = self._document.gadget
        assert self.comparison is not None
        assert gadget is not None
        frames = [self._document.frame(press) for press in self._presses[:LINE_FRAMES]]
        line = describe_line(frames, gadget.name, about=f"{self.grid.stack.columns} bits, found by comparing frames.")
        if line is None:
            self.said.emit("The frames do not show a line code that a sheet could describe.")
            return None
        return sheet_of(self.comparison, line[0])

    def ask_publish(self) -> None:
        gadget = self._document.gadget
        name = f"{gadget.name}.html" if gadget is not None else "gadget.html"
        path, _ = QFileDialog.getSaveFileName(self, "Write up the gadget", name, "Page (*.html);;Markdown (*.md)")
        if path:
            self.publish(Path(path))

    def publish(self, path: Path) -> None:
        """Write the gadget up: timing, layout, fields, checks, examples, proof and sheet."""
        text = self._sheet_text() if self.comparison is not None else None
        if text is None or self.comparison is None:
            return
        pulses = self._document.frame(self._presses[0]).as_read
        try:
            blocks = write_up(self.comparison, parse_sheet(text, "what was found"), pulses, text, self.proof)
            files = publish(path, blocks)
        except InputError as error:
            self.said.emit(str(error))
        else:
            self.said.emit(f"Written: {', '.join(file.name for file in files)}")

    def _rows_in_sight(self) -> list[int]:
        """The chosen rows in the order shown; all, if fewer than two are chosen."""
        several = len(self.grid.selected) > 1
        return [row for row in self.grid.order.tolist() if not several or row in self.grid.selected]

    def paste_labels(self) -> None:
        """Labels from a spreadsheet, for the chosen rows or from the top."""
        found, rows = pasted_labels(QApplication.clipboard().text()), self._rows_in_sight()
        if not found:
            self.said.emit(
                "The clipboard holds no labels: copy a column, or a table whose first row names what was set."
            )
            return
        if len(found) != len(rows):
            self.said.emit(f"{plural(len(found), 'label')} pasted on {plural(len(rows), 'row')}, from the top.")
        self._label(dict(zip(rows, found, strict=False)))

    def fill_down(self) -> None:
        """Give all chosen rows the first one's label."""
        rows = self._rows_in_sight()
        if len(self.grid.selected) > 1:
            self._label(dict.fromkeys(rows[1:], self._presses[rows[0]].label))

    def _label(self, labels: dict[int, str]) -> None:
        self._document.change(Label(tuple((self._presses[row].id, text) for row, text in labels.items())))

    def _wanted(self) -> list[Wanted]:
        return next_shots(self.comparison) if self.comparison is not None else []

    def plan_shots(self) -> None:
        """Ask for the presses that would settle the most."""
        pairs = [((name, label_word(value)) for name, value in ask.labels.items()) for ask in self._wanted()]
        self.shots_asked.emit([Shot(tuple(("" if n == KEY else n, v) for n, v in labels)) for labels in pairs])
        self.said.emit(f"{plural(len(pairs), 'press', 'presses')} added to the shot list.")

    def copy_rows(self, form: CopiedAs = "table") -> None:
        """The rows, the chosen ones or all, to the clipboard."""
        rows = self._rows_in_sight()
        QApplication.clipboard().setText(copied_rows(self.grid.stack, rows, form))
        self.said.emit(f"{plural(len(rows), 'row')} copied.")


def _same(stack: Stack, other: Stack) -> bool:
    return np.array_equal(stack.bits, other.bits) and dict(stack.labels) == dict(other.labels)


def _choice(name: str, choices: list[str]) -> QComboBox:
    box = QComboBox()
    box.addItems(choices)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
    box.setAccessibleName(name)
    return box
