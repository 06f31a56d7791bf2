"""Everything the desk can do, by its id: what it is called, its key, and when it can be done."""

from __future__ import annotations

from typing import Protocol

from eager_tern.casebook.changes import Change
from eager_tern.desk.header import Header
from eager_tern.desk.log import Log
from eager_tern.desk.pages import Pages
from eager_tern.desk.settings import Settings
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.session.commands import Command, Commands
from eager_tern.session.comparison import FEWEST, ComparisonModel
from eager_tern.session.live import Live
from eager_tern.session.publishing import Publishing
from eager_tern.session.sending import Sending
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.texts import term, tr

LEAVES = (
    term("Signal"), term("Timing"), term("Stack"), term("Sheet"), term("Handset"), term("Shots"), term("Send"),
)  # fmt: skip


class Shell(Protocol):
    """What commands need of a window: its models, and what only a window can do."""

    settings: Settings
    session: Session
    shot_plan: ShotPlan
    live: Live
    sending: Sending
    publishing: Publishing
    comparison: ComparisonModel
    header: Header
    log: Log
    pages: Pages
    handset_panel: SimulatedHandset

    def ask_new(self) -> None: ...
    def ask_open(self) -> None: ...
    def open_demo(self) -> None: ...
    def follow_tour(self) -> None: ...
    def ask_import(self) -> None: ...
    def take_home(self) -> None: ...
    def ask_save_as(self) -> None: ...
    def ask_gadget(self) -> None: ...
    def ask_rename(self) -> None: ...
    def close(self) -> bool: ...
    def label_press(self) -> None: ...
    def copy(self) -> None: ...
    def show_leaf(self, name: str) -> None: ...
    def show_keys(self) -> None: ...
    def show_sheet_language(self) -> None: ...
    def show_about(self) -> None: ...
    def toggle_night(self) -> None: ...
    def toggle_log(self) -> None: ...
    def show_preferences(self) -> None: ...
    @property
    def is_night(self) -> bool: ...
    def toggle_listening(self) -> None: ...
    def toggle_armed(self) -> None: ...
    def toggle_ear(self) -> None: ...
    def toggle_publishing(self) -> None: ...
    def ask_play(self) -> None: ...
    def plan_wanted(self) -> None: ...


def commands_of(shell: Shell) -> Commands:
    """The commands of a window. What belongs to its views is looked up when it is asked for."""
    session, plan, comparison = shell.session, shell.shot_plan, shell.comparison

    def has_book() -> bool:
        return session.casebook is not None

    def has_gadget() -> bool:
        return session.gadget is not None

    def has_press() -> bool:
        return bool(session.selected)

    def has_shots() -> bool:
        return bool(plan.shots())

    def last(changes: list[Change], word: str) -> str:
        return f"&{word} {changes[-1].words}" if changes else f"&{word}"

    commands = Commands()
    commands.add(
        Command("new", tr("&New casebook …"), shell.ask_new, "Ctrl+N"),
        Command("open", tr("&Open casebook …"), shell.ask_open, "Ctrl+O"),
        Command("example", tr("Open the &example"), shell.open_demo),
        Command("tour", tr("&Follow the example step by step"), shell.follow_tour),
        Command("import", tr("&Import recordings …"), shell.ask_import, "Ctrl+I"),
        Command(
            "home", tr("Take &home …"), shell.take_home, "Ctrl+E", has_gadget,
        ),
        Command("save_as", tr("Save casebook &as …"), shell.ask_save_as, "Ctrl+Shift+S", has_book),
        Command("quit", tr("&Quit"), shell.close, "Ctrl+Q"),
        Command("new_gadget", tr("New &gadget …"), shell.ask_gadget, enabled=has_book),
        Command("rename_gadget", tr("&Rename the gadget …"), shell.ask_rename, enabled=has_gadget),
        Command(
            "undo", tr("&Undo"), session.undo, "Ctrl+Z", lambda: bool(session.history.done),
            told=lambda: last(session.history.done, tr("Undo")),
        ),
        Command(
            "redo", tr("&Redo"), session.redo, "Ctrl+Shift+Z", lambda: bool(session.history.undone),
            told=lambda: last(session.history.undone, tr("Redo")),
        ),
        Command("label", tr("&Label the press"), shell.label_press, "F2", has_press),
        Command("copy", tr("&Copy what is in sight"), shell.copy, "Ctrl+C", has_gadget),
        Command("find", tr("&Find in the log"), lambda: shell.log.filter.setFocus(), "Ctrl+F"),
        Command("wrap", tr("&Wrap or unwrap the tape"), lambda: shell.pages.signal.wrap.click(), "Ctrl+U", has_press),
        Command(
            "log", tr("The &log beside the stack"), shell.toggle_log, checked=lambda: shell.settings.log_beside_stack
        ),
        Command("night", tr("&Night theme"), shell.toggle_night, "Ctrl+T", checked=lambda: shell.is_night),
        Command("preferences", tr("&Preferences"), shell.show_preferences, "Ctrl+,"),
        Command("listen", tr("&Listen or stop"), shell.toggle_listening, "Space"),
        Command("start_listening", tr("&Listen"), shell.toggle_listening, enabled=lambda: not shell.live.on),
        Command("stop_listening", tr("Sto&p"), shell.toggle_listening, enabled=lambda: shell.live.on),
        Command("armed", tr("&Wait for the first edge"), shell.toggle_armed, checked=lambda: shell.settings.armed),
        Command("ear", tr("Keep an &ear open"), shell.toggle_ear, checked=lambda: shell.settings.ear),
        Command(
            "publish", tr("&Publish while listening …"), shell.toggle_publishing, enabled=has_gadget,
            checked=lambda: shell.publishing.on,
        ),
        Command(
            "missed", tr("&Have what was just missed"), shell.live.have_missed, "Ctrl+K",
            lambda: shell.live.can_have_missed,
        ),
        Command("play", tr("&Play a recording as a source …"), shell.ask_play),
        Command("skip", tr("&Skip the next shot"), plan.skip, "Ctrl+Right", has_shots),
        Command("repeat", tr("&Repeat the last shot"), plan.repeat, "Ctrl+Down", has_shots),
        Command("back", tr("Step &back a shot"), plan.step_back, "Ctrl+Left", has_shots),
        Command("search", tr("Find &out"), comparison.search, enabled=lambda: comparison.stack.rows >= FEWEST),
        Command("keep_found", tr("&Keep as the gadget's sheet"), comparison.keep_sheet),
        Command("plan_wanted", tr("&Plan the next shots"), shell.plan_wanted),
        Command("send_shots", tr("Send all &shots that are left"), lambda: shell.handset_panel.send_all()),
        Command(
            "say", tr("&Say it"), lambda: shell.sending.say_press(session.selected[0]), "Ctrl+Return",
            lambda: has_press() and not shell.sending.going,
        ),
        Command(
            "send_all", tr("Send the &routine"), lambda: shell.pages.send.send_all(), "Ctrl+Shift+Return", has_gadget
        ),
        Command("silence", tr("S&top sending"), shell.sending.stop, "Escape", lambda: shell.sending.going),
        Command("keys", tr("&Keys"), shell.show_keys, "F1"),
        Command("sheet_language", tr("The &sheet language"), shell.show_sheet_language),
        Command("about", tr("&About Eager Tern"), shell.show_about),
        *(
            Command(leaf, tr(leaf), lambda leaf=leaf: shell.show_leaf(leaf), f"Ctrl+{n}", has_book)  # type: ignore[misc]
            for n, leaf in enumerate(LEAVES, 1)
        ),
    )  # fmt: skip
    return commands
