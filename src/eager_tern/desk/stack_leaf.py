"""The Stack leaf: the gadget's frames under one another, and the search for what their bits mean."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QAction, QHideEvent, QShowEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.changes import Label
from eager_tern.casebook.stacks import (
    CopiedAs,
    Cut,
    copied_rows,
    pasted_labels,
    short_label,
    usual_labels,
)
from eager_tern.compare.proof import is_settled
from eager_tern.compare.stack import Stack
from eager_tern.compare.writeup import write_up
from eager_tern.desk.choice import choice
from eager_tern.desk.links import link
from eager_tern.desk.qt import clipboard
from eager_tern.desk.stack_grid import AGAINST, StackGrid
from eager_tern.desk.ways import SHOWN, Way
from eager_tern.desk.words import Words, tool_tip
from eager_tern.errors import InputError
from eager_tern.intake.publishing import publish
from eager_tern.session.commands import Commands
from eager_tern.session.comparison import FEWEST, ComparisonModel
from eager_tern.session.session import Session
from eager_tern.texts import plural, tr

if TYPE_CHECKING:
    from eager_tern.desk.over_time import OverTime

IN_ORDER = tr("shooting order")
TURNS = (tr("turned"), tr("inverted"), tr("in nibbles"))
OVER_TIME = tr("over time")


class StackLeaf(QWidget):
    """Rows at the top, what was found in words below, the cards beside in the findings."""

    said = pyqtSignal(str)

    def __init__(self, session: Session, model: ComparisonModel, commands: Commands) -> None:
        super().__init__()
        self._session = session
        self._model = model
        self.grid = StackGrid()
        self.against = choice(tr("Compared with"), [tr("the {row}", row=tr(each)) for each in AGAINST])
        self.of = choice(tr("Frames stacked"), [])
        self._set_apart = Words()
        self._as_words = Words(tr("as"))
        self._kinds = QWidget()  # shown where frames of several kinds were caught
        self.sort = choice(tr("Sorted by"), [IN_ORDER])
        self.show_as = choice(tr("Shown as"), [*map(tr, SHOWN), OVER_TIME])
        self.turned, self.inverted, self.in_nibbles = (QAction(words, self) for words in TURNS)
        self.turns = QToolButton()
        self.turns.setAccessibleName(tr("Order of the bits shown"))
        self.turns.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.turns)
        for action in (self.turned, self.inverted, self.in_nibbles):
            action.setCheckable(True)
            action.triggered.connect(self._show_way)
            menu.addAction(action)
        self.turns.setMenu(menu)
        self.find_out = QPushButton(tr("Find out"))
        self.find_out.setToolTip(tr("Look for fields, checks and counters, and prove what is found"))
        self.find_out.clicked.connect(lambda: model.give_up() if model.searching else commands.do("search"))
        self.keep = link(tr("keep as the gadget's sheet"), tr("Keep what was found"), lambda: commands.do("keep_found"))
        self.write = link(tr("write it up …"), tr("Write the gadget up to be published"), self.ask_publish)
        self.back = link(tr("bring back"), tr("Bring back the findings that were dismissed"), model.bring_back)
        self.plan = link(
            tr("plan the next shots"),
            tr("Plan the presses that would settle the most"),
            lambda: commands.do("plan_wanted"),
        )
        self.every = link(tr("show every bit"), tr("Show the bytes that never change, too"), self._fold)
        self.copy = link(tr("copy the rows"), tr("Copy the rows as a table"), self.copy_rows)
        self.copy.setToolTip(tr("As a table; a right click on the rows copies them as CSV or for NumPy"))
        self.words = Words()
        self.words.setWordWrap(True)
        kinds = QHBoxLayout(self._kinds)
        kinds.setContentsMargins(18, 14, 14, 0)
        kinds.setSpacing(6)
        kinds.addWidget(Words(tr("frames of")))
        kinds.addWidget(self.of)
        kinds.addSpacing(6)
        kinds.addWidget(self._set_apart, 1)
        row = QHBoxLayout()
        row.setContentsMargins(18, 14, 14, 0)
        row.setSpacing(6)
        for words, box in (
            (Words(tr("against")), self.against),
            (Words(tr("by")), self.sort),
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
        bar.addWidget(self.find_out)
        bar.addWidget(self.words, 1)
        links = QHBoxLayout()
        links.setContentsMargins(18, 0, 14, 10)
        links.setSpacing(16)
        links.addStretch(1)
        for each in (self.back, self.every, self.copy, self.write, self.plan, self.keep):
            links.addWidget(each)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self._kinds)
        layout.addLayout(row)
        layout.addWidget(self.grid, 1)
        self._over_time: OverTime | None = None
        layout.addLayout(bar)
        layout.addLayout(links)
        self.of.activated.connect(lambda at: model.take_cut(model.cuts[at]))
        self.against.activated.connect(self._hold_against)
        self.sort.activated.connect(self._sort)
        self.show_as.activated.connect(self._show_as)
        self.grid.chosen.connect(self._choose)
        self.grid.range_chosen.connect(self._tell_way)
        self.grid.copied.connect(self.copy_rows)
        self.grid.pasted.connect(self.paste_labels)
        self.grid.filled_down.connect(self.fill_down)
        self.grid.labelled.connect(lambda row, text: session.label(self._model.rows[row].id, text))
        model.changed.connect(self.refresh)
        model.progressed.connect(self._tell)
        session.selection_changed.connect(self._show_selection)
        self._tell_way()
        self.refresh()

    def refresh(self) -> None:
        """Show the model's frames and what is known about them."""
        model = self._model
        self._show_cuts(model.cuts)
        apart = plural(len(model.apart), "frame", "frames")
        self._set_apart.setText(tr("{apart} of another kind set apart", apart=apart) if model.apart else "")
        stack = model.stack
        chosen = self.sort.currentText()
        self.sort.clear()
        self.sort.addItems([IN_ORDER, *stack.labels])
        self.sort.setCurrentText(chosen if chosen in stack.labels else IN_ORDER)
        labels = [press.label for press in model.rows]
        usual = usual_labels(labels)
        self.grid.show_stack(stack, [short_label(text, usual) for text in labels], labels, self._order(stack))
        self.grid.show_findings(model.comparison)
        self.grid.expect(model.proof.expected if model.proof is not None else None)
        if self._over_time is not None and self._over_time.isVisible():
            self._draw_over_time()
        self._show_selection()
        self._tell()

    def _show_cuts(self, cuts: list[Cut]) -> None:
        """Which frames can be stacked; the choice is offered where there is one."""
        cut = self._model.cut
        self.of.clear()
        self.of.addItems([each.words for each in cuts])
        self.of.setCurrentIndex(cuts.index(cut) if cut is not None else -1)
        self._kinds.setVisible(len(cuts) > 1)

    def showEvent(self, event: QShowEvent | None) -> None:
        self._model.watch(True)

    def hideEvent(self, event: QHideEvent | None) -> None:
        self._model.watch(False)

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
        if over_time or self._over_time is not None:
            self.over_time.setVisible(over_time)
        self._offer_to_fold()
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
        self.turns.setText((", ".join(said) or tr("as sent")) + " ▾")
        self._as_words.setText(
            tr("bits {first}–{last} as", first=columns[0], last=columns[1]) if columns is not None else tr("as")
        )

    @property
    def over_time(self) -> OverTime:
        """The numbers drawn over time, made when they are first asked for: a plot takes a while to load."""
        if self._over_time is None:
            from eager_tern.desk.over_time import OverTime

            self._over_time = OverTime()
            layout = self.layout()
            assert isinstance(layout, QVBoxLayout)
            layout.insertWidget(layout.indexOf(self.grid) + 1, self._over_time, 1)
        return self._over_time

    def _draw_over_time(self) -> None:
        times = np.array([press.caught_at for press in self._model.rows])
        self.over_time.show_stack(self.grid.stack, times, self._model.comparison)

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
        if AGAINST[at] == "label" and self._model.proof is None:
            self.said.emit(tr("What is expected is known once fields and checks are found: press “Find out” first."))
        self.grid.hold_against(AGAINST[at])

    def _choose(self, row: int, added: bool) -> None:
        press_id = self._model.rows[row].id
        now = self._session.selected if added else ()
        self._session.select((*(i for i in now if i != press_id), press_id))

    def _show_selection(self) -> None:
        if not self._model.rows:
            return
        chosen = set(self._session.selected)
        self.grid.select({row for row, press in enumerate(self._model.rows) if press.id in chosen})

    # Finding out

    def _tell(self) -> None:
        model = self._model
        stack, found = model.stack, model.comparison
        self.find_out.setEnabled(stack.rows >= FEWEST)
        self.find_out.setText(tr("Stop") if model.searching else tr("Find out"))
        for each in (self.keep, self.write):
            each.setVisible(found is not None and model.whole)
        self.keep.setText(tr("kept as the gadget's sheet") if model.is_kept else tr("keep as the gadget's sheet"))
        self.back.setVisible(found is not None and bool(model.dismissed))
        self.back.setText(tr("bring {dismissed} dismissed back", dismissed=len(model.dismissed)))
        wanted = model.wanted_shots
        self.plan.setVisible(bool(wanted))
        self.plan.setText(tr("plan {presses}", presses=plural(len(wanted), "more press", "more presses")))
        unproved_yet = "\n".join(model.unproved)
        self.words.setToolTip(
            tool_tip(tr("Not proved yet:\n{unproved_yet}", unproved_yet=unproved_yet) if unproved_yet else "")
        )
        self.plan.setToolTip(tool_tip("\n".join(ask.why for ask in wanted)))
        if stack.rows < FEWEST:
            text = tr(
                "{frames}: catch and label at least {fewest}, then compare them.",
                frames=plural(stack.rows, "frame", "frames"),
                fewest=FEWEST,
            )
        elif found is None and model.searching:
            text = model.stage.words if model.stage is not None else tr("Looking for fields, checks and counters …")
        elif found is None:
            text = tr(
                "{frames} of {columns} bits, {varying} of which change.",
                frames=plural(stack.rows, "frame", "frames"),
                columns=stack.columns,
                varying=len(stack.varying),
            )
            if not stack.labels:
                text += tr(" Label the presses with what you set, as in “temperature = 21, mode = dry”.")
        else:
            text = tr(
                "explained {explained} of {varying} changing bits",
                explained=found.explained,
                varying=len(stack.varying),
            )
            if model.proof is not None and stack.labels:
                text += f" · {model.proof.words}"
            elif model.proof is not None:
                text += tr(" · label some presses, and what was found is proved by making frames")
            elif model.searching:
                text += f" · {model.stage.words if model.stage is not None else 'looking again …'}"
            if model.left_out:
                text += tr(" · not in the sheet: {left_out}", left_out=", ".join(model.left_out))
            if model.proof is not None and is_settled(found):
                text += tr(" · no further press would settle more")
        self.words.setText(text)
        self._offer_to_fold()

    def _offer_to_fold(self) -> None:
        """Only where bits are shown, and not all of them have room."""
        self.every.setVisible(self.grid.overfull and not self.grid.isHidden())

    def _fold(self) -> None:
        """Show every bit, or let the bytes that never change give way."""
        self.grid.fold_constant(not self.grid.fold)
        self.every.setText(tr("show every bit") if self.grid.fold else tr("fold what is constant"))

    def ask_publish(self) -> None:
        gadget = self._session.gadget
        name = f"{gadget.name}.html" if gadget is not None else "gadget.html"
        path, _ = QFileDialog.getSaveFileName(
            self, tr("Write up the gadget"), name, tr("Page") + " (*.html);;Markdown (*.md)"
        )
        if path:
            self.publish(Path(path))

    def publish(self, path: Path) -> None:
        """Write the gadget up: timing, layout, fields, checks, examples, proof and sheet."""
        draft, found = self._model.draft(), self._model.comparison
        if draft is None or found is None:
            return
        pulses = self._session.frame(self._model.rows[0]).as_read
        try:
            blocks = write_up(found, draft.sheet, pulses, draft.text, self._model.proof)
            files = publish(path, blocks)
        except InputError as error:
            self.said.emit(str(error))
        else:
            self.said.emit(tr("Written: {files}", files=", ".join(file.name for file in files)))

    def _rows_in_sight(self) -> list[int]:
        """The chosen rows in the order shown; all, if fewer than two are chosen."""
        several = len(self.grid.selected) > 1
        return [row for row in self.grid.order.tolist() if not several or row in self.grid.selected]

    def paste_labels(self) -> None:
        """Labels from a spreadsheet, for the chosen rows or from the top."""
        rows = self._rows_in_sight()
        found = pasted_labels(clipboard().text(), len(rows))
        if not found:
            self.said.emit(
                tr("The clipboard holds no labels: copy a column, or a table whose first row names what was set.")
            )
            return
        if len(found) != len(rows):
            self.said.emit(
                tr(
                    "{labels} pasted on {rows}, from the top.",
                    labels=plural(len(found), "label", "labels"),
                    rows=plural(len(rows), "row", "rows"),
                )
            )
        self._label(dict(zip(rows, found, strict=False)))

    def fill_down(self) -> None:
        """Give all chosen rows the first one's label."""
        rows = self._rows_in_sight()
        if len(self.grid.selected) > 1:
            self._label(dict.fromkeys(rows[1:], self._model.rows[rows[0]].label))

    def _label(self, labels: dict[int, str]) -> None:
        self._session.change(Label(tuple((self._model.rows[row].id, text) for row, text in labels.items())))

    def copy_rows(self, form: CopiedAs = "table") -> None:
        """The rows, the chosen ones or all, to the clipboard."""
        rows = self._rows_in_sight()
        clipboard().setText(copied_rows(self.grid.stack, rows, form))
        self.said.emit(tr("{rows} copied.", rows=plural(len(rows), "row", "rows")))
