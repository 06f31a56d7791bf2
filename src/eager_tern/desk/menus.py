"""What the menus hold."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtGui import QKeySequence

from eager_tern.desk.actions import SEPARATOR, Item

if TYPE_CHECKING:
    from eager_tern.desk.window import Window


def menus_of(window: Window) -> dict[str, list[Item | None]]:
    """The menus by their names, with what each entry does to the window."""
    keys = QKeySequence.StandardKey
    leaves = [
        Item(name, name, lambda name=name: window.show_leaf(name), f"Ctrl+{n}")
        for n, name in enumerate(window.leaf_names, 1)
    ]
    return {
        "&File": [
            Item("new", "&New casebook …", window.ask_new, keys.New),
            Item("open", "&Open casebook …", window.ask_open, keys.Open),
            Item("recent", "Open &recent", fill=window.fill_recent),
            Item("example", "Open the &example", window.open_demo),
            Item("tour", "&Follow the example step by step", window.follow_tour),
            SEPARATOR,
            Item("import", "&Import recordings …", window.ask_import, "Ctrl+I"),
            Item("export", "&Export keys …", window.ask_export, "Ctrl+E"),
            Item("save_as", "Save casebook &as …", window.ask_save_as, keys.SaveAs),
            SEPARATOR,
            Item("quit", "&Quit", window.close, "Ctrl+Q"),
        ],
        "&Edit": [
            Item("undo", "&Undo", window.document.undo, keys.Undo),
            Item("redo", "&Redo", window.document.redo, keys.Redo),
            SEPARATOR,
            Item("label", "&Label the press", window.label_press, "F2"),
            Item("copy", "&Copy bits", window.signal.copy_bits, keys.Copy),
            Item("find", "&Find in the log", window.log.filter.setFocus, keys.Find),
        ],
        "&View": [
            *leaves,
            SEPARATOR,
            Item("wrap", "&Wrap or unwrap the tape", window.signal.wrap.click, "Ctrl+U"),
            Item("night", "&Night theme", window.toggle_night, "Ctrl+T", checkable=True),
        ],
        "&Source": [
            Item("listen", "&Listen or stop\tSpace", window.toggle_listening),
            Item("armed", "&Wait for the first edge", window.toggle_armed, checkable=True),
            Item("ear", "Keep an &ear open", window.toggle_ear, checkable=True),
            Item("missed", "&Have what was just missed", window.live.have_missed, "Ctrl+K"),
            Item("play", "&Play a recording as a source …", window.ask_play),
            SEPARATOR,
            Item("skip", "&Skip the next shot", window.shot_plan.skip, "Ctrl+Right"),
            Item("repeat", "&Repeat the last shot", window.shot_plan.repeat, "Ctrl+Down"),
            Item("back", "Step &back a shot", window.shot_plan.step_back, "Ctrl+Left"),
        ],
    }
