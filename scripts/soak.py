"""An hour's life in minutes: listen, label, import, compare, undo, kill, open again; nothing may be lost.

    make soak        some five minutes
    python scripts/soak.py --kills 12 --seconds 20

A session that works is a process of its own; it writes down what it has been told is on disk before it goes on. It is
killed at a random moment, and the casebook is then held against what it wrote down.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

import numpy as np

from eager_tern.casebook.changes import Label, Overrule
from eager_tern.casebook.store import Casebook
from eager_tern.formats.capture import AS_FOUND
from eager_tern.protocol.loading import library_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.imports import Imports
from eager_tern.session.session import Session
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.values import Floats

REST_US = 300_000.0
OLDER = Path(__file__).parents[1] / "tests" / "casebook" / "older"  # a casebook of every schema so far
MOST_LOST_S = 1.0  # of pulses, by a kill


def press(command: int, rng: np.random.Generator) -> Floats:
    """A press of a handset, its durations in whole µs."""
    sheet = library_sheet("nec")
    assert sheet is not None
    signed = np.concatenate(press_frames(sheet, {"address": 0x5B, "command": command % 256}, 1))
    signed = signed + np.sign(signed) * rng.normal(0, 12, signed.size)
    signed[-1] = -REST_US
    return np.rint(signed)


def copy_of(path: Path) -> Path:
    return path.with_name("copy.tern")


def bring_up(folder: Path, seed: int) -> None:
    """Bring older casebooks up, one after the other, until it is killed."""
    dice = random.Random(seed)
    for number in range(1_000_000):
        path = folder / f"older-{number}.tern"
        partial = shutil.copy(dice.choice(sorted(OLDER.iterdir())), folder / "partial")
        Path(partial).replace(path)
        Casebook.open(path).close()


def check_brought_up(folder: Path) -> list[str]:
    """What is wrong with the older casebooks that were being brought up, and forget them."""
    lost = []
    for path in sorted(folder.glob("older-*.tern"), key=lambda path: path.stat().st_mtime)[-2:]:
        book = Casebook.open(path)
        labels = [press.label for press in book.presses()]
        book.close()
        if labels != ["Next slide"] or not is_whole(path):
            lost.append(f"{path.name} was brought up, and has {labels}")
    for path in folder.glob("older-*"):
        path.unlink()
    return lost


def is_whole(path: Path) -> bool:
    with closing(sqlite3.connect(path)) as db:
        return bool(db.execute("PRAGMA integrity_check").fetchone()[0] == "ok")


def work(path: Path, diary: Path, seed: int) -> None:
    """What the process does until it is killed."""
    rng, dice = np.random.default_rng(seed), random.Random(seed)
    session = Session()
    session.open(path)
    session.inbox.settle()
    imports, comparison = Imports(session), ComparisonModel(session)
    assert session.service is not None
    assert session.gadget is not None
    file = diary.open("a")

    def note(*words: object) -> None:
        print(*words, file=file, flush=True)
        os.fsync(file.fileno())

    text = path.with_suffix(".txt")
    text.write_text(" ".join(f"{d:+.0f}" for d in np.concatenate([press(n, rng) for n in range(20)])))
    session.service.begin(session.gadget.id, "soak", session.sheets)
    heard = 0
    while True:
        session.inbox.handle()
        match dice.randrange(12):
            case 0 | 1 | 2 | 3:
                heard += 1
                session.service.hear(press(heard, rng))
                note("heard", heard, time.time())
            case 4 | 5 if session.shown_presses():
                one, label = dice.choice(session.shown_presses()), f"label {dice.randrange(1000)}"
                note("meant", one.id, label)
                session.change(Label(((one.id, label),)))
                note("label", one.id, label)
            case 6 if not imports.busy:
                imports.read([(text, AS_FOUND)])
            case 7 if session.takes():
                shortest = dice.choice([None, 20.0])
                session.change(Overrule(session.takes()[0].id, ByHand(shortest_us=shortest)))
            case 8 if session.history.done and not isinstance(session.history.done[-1], Label):
                session.undo()
            case 9:
                comparison.search() if comparison.stack.rows > 3 else comparison.refresh()
            case 10 if dice.random() < 0.1 and session.casebook is not None:
                session.casebook.copy_to(copy_of(path))
            case _:
                time.sleep(0.005)


def check(path: Path, diary: Path, killed_at: float) -> tuple[list[str], int, int, float]:
    """What was lost, and how many presses and labels and how much time of pulses there was to lose."""
    lost = []
    for each in (path, copy_of(path)):
        if each.exists() and not is_whole(each):
            lost.append(f"{each.name} is damaged")
    book = Casebook.open(path)
    lines = [line.split(" ", 2) for line in diary.read_text().splitlines()] if diary.exists() else []
    labels = {int(number): label for kind, number, label in lines if kind == "label"}
    heard = [(int(number), float(at)) for kind, number, at in lines if kind == "heard"]
    last = lines[-1] if lines else ("", "", "")
    under_way = (int(last[1]), last[2]) if last[0] == "meant" else None
    for press_id, label in labels.items():
        kept = book.press(press_id)
        if kept is None or (kept.label != label and (press_id, kept.label) != under_way):
            lost.append(f"press {press_id} was labelled {label}, and is {kept.label if kept else 'gone'}")
    live = [take for take in book.takes() if take.source == "soak"]
    kept_presses = sum(int((book.take_durations(take.id) <= -REST_US).sum()) for take in live[-1:])
    gone = [at for number, at in heard if number > kept_presses]
    late = max((killed_at - at for at in gone), default=0.0)
    if late > MOST_LOST_S:
        lost.append(f"pulses heard {late:.2f} s before the kill are not there")
    book.close()
    return lost, len(heard), len(labels), late


def main() -> int:
    """Zero if nothing was lost."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--seconds", type=float, default=300.0, help="stop when so long has passed, kills or not")
    parser.add_argument("--work", nargs=3, help=argparse.SUPPRESS)
    parser.add_argument("--bring-up", nargs=2, help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.work:
        work(Path(options.work[0]), Path(options.work[1]), int(options.work[2]))
    if options.bring_up:
        bring_up(Path(options.bring_up[0]), int(options.bring_up[1]))
    folder = Path(tempfile.mkdtemp(prefix="eager-tern-soak-"))
    until = time.monotonic() + options.seconds
    dice = random.Random(1)
    kills = faults = presses = labels = upgrades = 0
    worst = 0.0
    path = folder / "soak.tern"
    book = Casebook.create(path)
    book.add_gadget("Projector")
    book.close()
    while kills < options.kills and time.monotonic() < until:
        diary = folder / f"{kills}.diary"
        command = [sys.executable, __file__, "--work", str(path), str(diary), str(kills)]
        child = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
        while not diary.exists() and child.poll() is None:
            time.sleep(0.01)
        upgrade = [sys.executable, __file__, "--bring-up", str(folder), str(kills)]
        bringing_up = subprocess.Popen(upgrade)
        time.sleep(dice.uniform(0.0, 2.5))
        bringing_up.kill()
        ended = child.poll()
        killed_at = time.time()
        child.send_signal(signal.SIGKILL)
        words = child.communicate()[1]
        bringing_up.wait()
        if ended is not None:
            print(f"kill {kills}: it had ended by itself ({ended}): {words[-2000:]}")
            faults += 1
        lost, heard, labelled, late = check(path, diary, killed_at)
        upgrades += len(list(folder.glob("older-*.tern")))
        lost += check_brought_up(folder)
        presses, labels, worst = presses + heard, labels + labelled, max(worst, late)
        for each in lost:
            print(f"kill {kills}: {each}")
        faults += len(lost)
        kills += 1
        if faults > 20:
            break
    given = f"{presses} presses heard, {labels} labels given, {upgrades} casebooks brought up"
    print(f"{kills} kills: {given}, {faults} faults; at most {worst:.2f} s lost")
    if not faults:
        shutil.rmtree(folder, ignore_errors=True)
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
