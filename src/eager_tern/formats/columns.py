"""Tables with a press in each column."""

from __future__ import annotations

import re
from itertools import zip_longest

from eager_tern.formats.lists import FEWEST, Lines, are_durations, each_a_press
from eager_tern.formats.numbers import is_number
from eager_tern.formats.rows import MARKS, WORD

SAME_FIRST = 1.5  # between the leaders of one gadget's presses; a mark and the space behind it differ by more
TIMES = {"time", "timestamp", "t", "micros", "millis"}
TITLE = re.compile(r"[^\W\d_][^,;\t]*$")
PARTED = re.compile(r"[,;\t]")
# What stands above a column is no key, then; keys may be called up and down, on and off.
NO_PRESS = {*MARKS, *TIMES, "marks", "spaces", "pulses", "gaps", "duration", "durations", "n", "index"}


def columns_in(text: str) -> list[tuple[str, Lines]]:
    """The presses with the names that stand above them, a duration a line; none where the text is no such table."""
    head = text.lstrip().partition("\n")[0]
    names = [name.strip() for name in PARTED.split(head)]
    said = {word.lower() for name in names for word in WORD.findall(name)}
    if len(names) < 2 or not all(map(TITLE.match, names)) or said & NO_PRESS:
        return []
    lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip()][1:]
    rows = [[cell.strip() for cell in PARTED.split(line)] for _, line in lines]
    if any(len(row) != len(names) for row in rows[:-1]):  # a file's last line may be cut
        return []
    columns = [
        [(number, [cell]) for (number, _), cell in zip(lines, column, strict=True) if cell]
        for column in zip_longest(*rows, fillvalue="")
    ]
    values = [[cell for _, (cell,) in column] for column in columns]
    if len(values) != len(names) or not all(len(each) >= FEWEST and all(map(is_number, each)) for each in values):
        return []
    firsts = [float(each[0]) for each in values]
    alike = 0 < max(firsts) < SAME_FIRST * min(firsts) or each_a_press(values)
    return list(zip(names, columns, strict=True)) if alike and all(map(are_durations, values)) else []
