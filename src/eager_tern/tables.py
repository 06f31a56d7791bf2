"""Tables as text: read whatever people save, and written so that a spreadsheet takes no cell for a formula."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

from eager_tern.errors import InputError

# A spreadsheet computes what begins like this. A number with its sign is no formula.
FORMULA = re.compile(r"[=+\-@\t\r]")
NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")
GUARDED = re.compile(r"'(?=[=+\-@\t\r])")
DELIMITERS = ",;\t"


def table_text(rows: Iterable[Sequence[object]], delimiter: str = ",") -> str:
    """Rows as text, with an apostrophe before what a spreadsheet would compute."""
    out = io.StringIO()
    writer = csv.writer(out, delimiter=delimiter, lineterminator="\n")
    writer.writerows([_guarded(str(cell)) for cell in row] for row in rows)
    return out.getvalue()


def table_rows(text: str, source: object) -> list[tuple[int, list[str]]]:
    """The rows that say something, each with the number of its line; cells without blanks around them.

    Raises InputError.
    """
    text = text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")
    delimiter = max(DELIMITERS, key=text.partition("\n")[0].count)
    rows = csv.reader(io.StringIO(text), delimiter=delimiter)
    try:
        numbered = [(rows.line_num, [GUARDED.sub("", cell.strip(), count=1) for cell in row]) for row in rows]
    except csv.Error as error:
        raise InputError(source, f"is no table that can be read ({error})", f"line {rows.line_num}") from None
    return [(number, row) for number, row in numbered if any(row)]


def _guarded(cell: str) -> str:
    return f"'{cell}" if FORMULA.match(cell) and not NUMBER.fullmatch(cell) else cell
