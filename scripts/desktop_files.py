"""What a desktop wants of us that can be made: icons of several sizes, the manual page. ``make desktop-files``."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from inspect import cleandoc
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication, QImage, QPainter
from PyQt6.QtSvg import QSvgRenderer

from eager_tern import __version__
from eager_tern.cli.app import ABOUT, app

SIZES = (16, 24, 32, 48, 64, 128, 256)
MAN = "man/man1/eager-tern.1"
SVG = "icons/hicolor/scalable/apps/eager-tern.svg"
ESCAPED = str.maketrans({"\\": r"\\", "-": r"\-"})


def icons(share: Path) -> None:
    """The drawing in every usual size."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    keep = QGuiApplication(sys.argv[:1])
    renderer = QSvgRenderer(str(share / SVG))
    for size in SIZES:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        path = share / f"icons/hicolor/{size}x{size}/apps/eager-tern.png"
        path.parent.mkdir(parents=True, exist_ok=True)
        image.save(str(path))
    del keep


def manual() -> str:
    """The manual page, of the command's own help."""
    context = app.make_context("eager-tern", [], resilient_parsing=True)
    lines = [
        f'.TH EAGER\\-TERN 1 "" "Eager Tern {__version__}" "User Commands"',
        ".SH NAME", f"eager\\-tern \\- {_roff(ABOUT[0].lower() + ABOUT[1:].rstrip('.'))}",
        ".SH SYNOPSIS", ".B eager\\-tern", ".I COMMAND [OPTIONS] [ARGS]",
        ".SH DESCRIPTION", _roff("Everything the window can do to a signal, without a window. With --json the only"
        " thing on standard output is one JSON document; messages go to standard error."),
        ".SH COMMANDS",
    ]  # fmt: skip
    for name in app.list_commands(context):
        command = app.get_command(context, name)
        lines += _command(command.make_context(name, [], parent=context, resilient_parsing=True))
    lines += [
        ".SH EXIT STATUS", ".TP", "0", "The work was done, even where nothing was recognised.", ".TP", "1",
        "An input could not be used; the message says which, where and why.",
        ".TP", "2", "Wrong arguments.", ".TP", "3", "Sent, but an echo is missing or has other bits.",
        ".TP", "130", "Interrupted.",
        ".SH FILES", ".TP", "~/.local/share/eager\\-tern/sheets", "Protocol sheets of your own, used everywhere.",
        ".TP", "~/.local/share/eager\\-tern/casebooks", "Casebooks that have the day for a name.",
        ".SH EXAMPLES", ".nf", *map(_roff, EXAMPLES), ".fi",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


EXAMPLES = (
    "eager-tern read capture.wav --json",
    "eager-tern make nec address=0x5B command=0x16 --to next.txt",
    "eager-tern compare *.txt --labels labels.csv --write-sheet cabinet.toml",
    "eager-tern export cabinet.toml --as c --to firmware",
    "eager-tern bridge /dev/ttyUSB0 --broker mqtt://localhost",
)


def _command(context: Any) -> Iterator[str]:
    command = context.command
    usage = " ".join(command.collect_usage_pieces(context))
    yield from (".SS", f"eager\\-tern {_roff(context.info_name or '')} {_roff(usage)}")
    yield from "\n.PP\n".join(map(_roff, cleandoc(command.help or "").split("\n\n"))).splitlines()
    for parameter in command.params:
        record = parameter.get_help_record(context)
        if record is not None and record[1] and "--help" not in parameter.opts:
            yield from (".TP", _roff(record[0]), _roff(record[1]))


def _roff(text: str) -> str:
    return text.translate(ESCAPED)


def main(share: Path) -> None:
    icons(share)
    (share / MAN).write_text(manual(), "utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
