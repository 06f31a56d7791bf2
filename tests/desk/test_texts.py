"""Other languages: every text of the window is found for translation, and is said in the desktop's language."""

from __future__ import annotations

import ast
import gettext
import json
import os
import re
import subprocess
import sys
from functools import cache, partial
from pathlib import Path

import pytest
from babel.messages.catalog import Catalog
from babel.messages.extract import extract_from_dir
from babel.messages.mofile import write_mo

from eager_tern.texts import _catalogue, tr

CODE = Path(__file__).parents[2] / "src/eager_tern"
KEYWORDS = {"tr": None, "term": None, "plural": (2, 3)}  # as `make texts` has them
SHOWN_BY = {
    "Words", "link", "QPushButton", "QCheckBox", "QMenu", "choice", "drawText", "setText", "setToolTip", "addRow",
    "setPlaceholderText", "setWindowTitle", "setAccessibleName", "setAccessibleDescription", "say", "add_action",
    "Card", "HelpPage", "ask_name", "ask_folder",
}  # fmt: skip
# Opens a window on a casebook, and says what stands in it on each leaf.
SHOW = """
import json, sys
from pathlib import Path
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QPushButton
from eager_tern.desk.app import application
app = application()
from eager_tern.desk.commands import LEAVES
from eager_tern.desk.window import Window
window = Window()
window.show()
window.open_casebook(Path(sys.argv[1]))
window.session.inbox.settle(lambda: not window.session.incoming.reading_again)
window.session.select((window.session.shown_presses()[0].id,))
said = []
for leaf in LEAVES:
    window.show_leaf(leaf)
    app.processEvents()
    said += [each.text() for kind in (QLabel, QPushButton) for each in window.findChildren(kind) if each.isVisible()]
    said += [each.accessibleName() for each in window.findChildren(QComboBox)]
said += [window.tabs.tabText(at) for at in range(window.tabs.count())]
said += [action.text() for action in window.menus.actions.values()]
window.close()
print(json.dumps(said))
"""


@cache
def texts() -> set[str | tuple[str, ...]]:
    return {found[2] for found in extract_from_dir(CODE, method_map=[("**.py", "python")], keywords=KEYWORDS)}


@pytest.fixture
def in_brackets(tmp_path: Path) -> Path:
    """A data folder with a language in it that says everything in brackets."""
    catalogue = Catalog(locale="de")
    for text in texts():
        catalogue.add(text, [f"⟦{form}⟧" for form in text] if isinstance(text, tuple) else f"⟦{text}⟧")
    folder = tmp_path / "eager-tern/locale/de/LC_MESSAGES"
    folder.mkdir(parents=True)
    with (folder / "eager-tern.mo").open("wb") as file:
        write_mo(file, catalogue)
    return tmp_path


def test_the_window_speaks_the_language_of_the_desktop(in_brackets: Path, demo_casebook: Path, tmp_path: Path) -> None:
    copy = tmp_path / "skarvholm.tern"
    copy.write_bytes(demo_casebook.read_bytes())
    environment = {**os.environ, "LANGUAGE": "de", "XDG_DATA_HOME": str(in_brackets), "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", SHOW, str(copy)], env=environment, capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr
    said = {text for text in json.loads(done.stdout) if re.search("[a-z]{3}", text)}
    english = {text for text in said if "⟦" not in text}
    # What is left in English is data, or the core's: names, codes, sentences about keys and evidence.
    assert len(said) > 100
    assert len(english) < 0.12 * len(said), sorted(english)
    assert not english & texts() - {"address", "command", "key"}


def is_plain(argument: ast.expr) -> bool:
    """Whether an argument may be words of ours that nobody would find for translation."""
    if isinstance(argument, ast.IfExp):
        return is_plain(argument.body) or is_plain(argument.orelse)
    if isinstance(argument, ast.JoinedStr):
        return any(
            isinstance(part, ast.Constant) and re.search("[a-z]{3}", str(part.value)) for part in argument.values
        )
    return isinstance(argument, ast.Constant) and bool(re.search("[a-z]{2}", str(argument.value)))


def test_no_text_is_kept_from_translators() -> None:
    plain = [
        f"{path.name}:{node.lineno} {ast.unparse(node)}"
        for folder in ("desk", "session")
        for path in sorted((CODE / folder).glob("*.py"))
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.Call)
        and getattr(node.func, "attr", getattr(node.func, "id", "")) in SHOWN_BY
        and any(is_plain(argument) for argument in node.args[:2])
    ]
    assert [text for text in plain if "'Eager Tern'" not in text] == []


def test_what_a_text_leaves_open_is_filled_in() -> None:
    """Each place of a text has its value, and no value is without a place."""
    for path in [*(CODE / "desk").glob("*.py"), *(CODE / "session").glob("*.py")]:
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "tr" and node.keywords:
                assert isinstance(node.args[0], ast.Constant), (path.name, node.lineno)
                places = set(re.findall(r"{(\w+)", str(node.args[0].value)))
                assert places == {value.arg for value in node.keywords}, (path.name, node.lineno)


@pytest.mark.parametrize("damage", ["cut", "no catalogue", "other values"])
def test_a_bad_catalogue_leaves_everything_in_english(
    in_brackets: Path, monkeypatch: pytest.MonkeyPatch, damage: str
) -> None:
    path = in_brackets / "eager-tern/locale/de/LC_MESSAGES/eager-tern.mo"
    whole = path.read_bytes()
    changed = {
        "cut": whole[: len(whole) // 2], "no catalogue": b"hello",
        "other values": whole.replace(b"\xa6{name} copied", b"\xa6{nome} copied"),
    }  # fmt: skip
    assert changed[damage] != whole
    path.write_bytes(changed[damage])
    # Not by LANGUAGE: the C library would keep to it, and say what went wrong with a file in that language.
    in_german = partial(gettext.translation, languages=["de"])
    monkeypatch.setattr("eager_tern.texts.gettext.translation", in_german)
    monkeypatch.setenv("XDG_DATA_HOME", str(in_brackets))
    _catalogue.cache_clear()
    try:
        assert tr("{name} copied", name="hex") == "hex copied"
    finally:
        _catalogue.cache_clear()
