"""The ``eager-tern`` command: everything the window can do, without a window."""

from __future__ import annotations

import json
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterable
from itertools import count
from pathlib import Path
from typing import Any, Literal, get_args

import click
from msgspec.structs import replace

from eager_tern import __version__
from eager_tern.errors import InputError, TernError, did_you_mean
from eager_tern.places import log_path
from eager_tern.replacing import write_text

ABOUT = "Find out what a remote control, a sensor or a toy is saying."
AS_PATH = click.Path(path_type=Path)
PolarityChoice = Literal["mark-low", "mark-high", "auto"]
PASSWORD = "EAGER_TERN_BROKER_PASSWORD"
EXPORTS = ("table", "payloads", "header", "c", "python", "sketch", "page", "parcel")
option, argument = click.option, click.argument

# What several commands have.
in_json = option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
sheets_too = option("--sheet", type=AS_PATH, multiple=True, help="A protocol sheet to read with, too.")
which_polarity = option(
    "--polarity",
    type=click.Choice(get_args(PolarityChoice)),
    default="auto",
    show_default=True,
    help="Which level is a mark.",
)
one_channel = option("--channel", type=int, help="Only this channel, counted from 0.")
of_gadget = option("--gadget", default="", metavar="NAME", help="Which gadget of a casebook.")
Command = Callable[..., None]
BY_HAND = (  # how files are read, wherever they are
    sheets_too,
    which_polarity,
    one_channel,
    option("--samples", default="", metavar="TYPE", help="Type of bare IQ samples, as in cu8 or cf32_le."),
    option("--rate", type=float, default=0.0, help="Samples a second, where the file does not say."),
    option("--threshold", type=float, help="Level of the threshold, in the samples' own units."),
    option("--shortest", type=float, help="Leave out pulses shorter than this, µs."),
    option("--gap", type=float, help="The shortest space between frames, µs."),
    option("--as", "line_code", default="", metavar="CODE",
           help="Read as pulse-distance, pulse-width, biphase or serial:1200-8N1."),
)  # fmt: skip


def by_hand(command: Command) -> Command:
    """The options of a command that reads files."""
    for one in reversed(BY_HAND):
        command = one(command)
    return command


EXAMPLES = """\b
Examples:
  eager-tern read capture.wav --json
  eager-tern make nec address=0x5B command=0x16
  eager-tern compare *.txt --labels labels.csv --write-sheet cabinet.toml
  eager-tern demo
"""


@click.group(help=ABOUT, epilog=EXAMPLES, context_settings={"max_content_width": 100})
@click.version_option(__version__, prog_name="eager-tern", message="%(prog)s %(version)s")
def app() -> None:
    """All commands."""


def main() -> None:
    """Run the command. What nobody expected is one sentence too; the log says more."""
    try:
        app(prog_name="eager-tern")
    except Exception as error:
        import logging

        from eager_tern.faults import start_log

        start_log()
        logging.getLogger(__name__).exception("the command met a fault")
        _complain(f"something went wrong inside ({type(error).__name__}: {error}); {log_path()} says more")
        sys.exit(1)


def _complain(error: object) -> None:
    print(f"eager-tern: {error}", file=sys.stderr)


def _or_complain(work: Callable[[], Any]) -> Any:
    """The result of some work; where it fails, the reason on standard error and exit status 1."""
    try:
        return work()
    except TernError as error:
        _complain(error)
        raise SystemExit(1) from None


def _stopped_by_signals() -> threading.Event:
    """Set by Ctrl-C or SIGTERM."""
    stopped = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopped.set())
    return stopped


def _list(kind: str, found: Iterable[Any], as_json: bool) -> None:
    """Sources or targets, with what each is."""
    if as_json:
        listed = [{"id": one.id, "description": one.description} for one in found]
        _print_json({"schema": f"eager-tern/{kind}/1", kind: listed})
    else:
        for one in found:
            print(f"{one.id}\t{one.description}")


def _print_json(document: object) -> None:
    _say(json.dumps(document, ensure_ascii=False, allow_nan=False))


def _say(text: str) -> None:
    """To standard output, file names included that are no UTF-8."""
    print(text.encode("utf-8", "replace").decode())


@app.command()
@argument("paths", metavar="FILE...", type=AS_PATH, nargs=-1, required=True, help="Captures of any kind.")
@by_hand
@option("--noise", is_flag=True, help="List the stretches that are no signal, too.")
@option("--why", default="", metavar="SHEET", help="Say why this sheet (a path or an id) does not fit.")
@in_json
def read(paths: tuple[Path, ...], noise: bool, why: str, as_json: bool, **said: Any) -> None:
    """Find frames in captures, name their protocol and the fields."""
    from eager_tern.places import sheets_folder
    from eager_tern.protocol.loading import sheets_in, with_own
    from eager_tern.reports.readings import describe_take, readings_document

    asked = _or_complain(lambda: _sheet_named(why)) if why else None
    own, wrong = sheets_in(sheets_folder())
    for problem in wrong:
        _complain(problem)
    manner = _manner(**said)
    manner = replace(manner, sheets=with_own(manner.sheets, own))
    takes, failed = [], False
    for path in paths:
        try:
            found = manner.read(path)
        except InputError as error:
            _complain(error)
            failed = True
            continue
        for one in found:
            for warning in one.capture.warnings:
                _complain(f"{path}: {warning}; what could be read of it is reported")
            for advice in one.advice(len(one.take.frames)):
                _complain(f"{path}: {advice}")
        takes += found
    if as_json:
        _print_json(readings_document(takes, noise, asked))
    else:
        for one in takes:
            _say("\n".join(describe_take(one, noise, asked)))
    if failed:
        raise SystemExit(1)


def _manner(
    sheet: tuple[Path, ...], polarity: PolarityChoice, channel: int | None, samples: str, rate: float,
    threshold: float | None, shortest: float | None, gap: float | None, line_code: str,
) -> Any:  # fmt: skip
    """How files are to be read."""
    from eager_tern.formats.capture import Description, ReadOptions
    from eager_tern.intake.files import Manner
    from eager_tern.protocol.loading import load_sheet
    from eager_tern.signal.by_hand import ByHand

    if samples and not rate:
        raise click.BadParameter("--samples needs --rate")
    described = Description(samples, rate) if samples else None
    sheets = _or_complain(lambda: tuple(load_sheet(path) for path in sheet))
    options = ReadOptions(channel, samples=described, rate_hz=rate or None)
    by_hand = ByHand(None if polarity == "auto" else polarity, threshold, shortest, gap)
    return Manner(sheets, options, by_hand, _said(line_code))


def _sheet_named(name: str) -> Any:
    """A sheet by its path, or a built-in one by its id. Raises InputError."""
    from eager_tern.protocol.loading import library, library_sheet, load_sheet

    found = library_sheet(name)
    if found is None and not Path(name).exists():
        meant = did_you_mean(name, [sheet.id for sheet in library()])
        raise InputError(name, f"there is no such file, and no built-in sheet of that name{meant}")
    return found or load_sheet(Path(name))


def _said(line_code: str) -> Any:
    from eager_tern.protocol.said import said

    try:
        return said(line_code) if line_code else None
    except ValueError as error:
        raise click.BadParameter(str(error)) from None


@app.command()
@argument(
    "paths", metavar="FILE...", type=AS_PATH, nargs=-1, required=True, help="Captures of one gadget, a press each."
)
@option("--labels", type=AS_PATH, help="A table: a column file, and one for each thing that was varied.")
@option("--write-sheet", type=AS_PATH, help="Write a protocol sheet here.")
@option("--write-up", type=AS_PATH, help="Write the gadget up here, as .html or .md.")
@option("--proof", is_flag=True, help="Predict frames that were left out of the search, too.")
@option("--accept", multiple=True, help="A finding that is only possible, by name and positions, to be believed.")
@by_hand
@in_json
def compare(
    paths: tuple[Path, ...], labels: Path | None, write_sheet: Path | None, write_up: Path | None, proof: bool,
    accept: tuple[str, ...], as_json: bool, **said: Any,
) -> None:  # fmt: skip
    """Compare the frames of one gadget: what do their bits mean?"""
    from eager_tern.compare.comparison import accepting, left_open, named, settled
    from eager_tern.compare.comparison import compare as compare_stack
    from eager_tern.compare.proof import left_out, prove
    from eager_tern.compare.trial import on_trial
    from eager_tern.compare.writeup import write_up as written_up
    from eager_tern.compare.writing import sheet_of
    from eager_tern.intake.captures import gather
    from eager_tern.intake.publishing import publish
    from eager_tern.reports.comparison import comparison_document, describe_comparison

    manner = _manner(**said)
    gathered = _or_complain(lambda: gather(paths, labels, manner))
    for words in (*gathered.words, *gathered.failed):
        _complain(words)
    found = compare_stack(gathered.stack)
    verdicts = {accepting(finding) for finding in accept}
    proved = prove(found, left_out(found.stack), verdicts) if proof or write_up is not None else None
    kept = settled(found, verdicts)
    left = [named(each) for each in left_open(found, kept)]
    if left and write_sheet is not None:
        _complain(f"{write_sheet}: leaves out what is only possible: {', '.join(left)} (--accept takes it in)")
    draft = sheet_of(kept, gathered.line)
    if write_sheet is not None:
        for reason in on_trial(draft.sheet, kept, gathered.frames, gathered.names):
            _complain(f"{write_sheet}: {reason}")
        _or_complain(lambda: write_text(write_sheet, draft.text))
    if write_up is not None:
        pulses = gathered.frames[0].as_read
        blocks = written_up(found, draft.sheet, pulses, draft.text, proved)
        _or_complain(lambda: publish(write_up, blocks))
    if as_json:
        _print_json(comparison_document(found, proved))
    else:
        _say("\n".join(describe_comparison(found, gathered.names, proved)))
    if gathered.failed:
        raise SystemExit(1)


@app.command()
@argument("sheet", help="A sheet's path, or the id of a built-in one.")
@argument("values", metavar="[field=value...]", nargs=-1)
@option("--to", type=AS_PATH, help="Write the frame here, in the format the suffix names.")
@in_json
def make(sheet: str, values: tuple[str, ...], to: Path | None, as_json: bool) -> None:
    """Make one frame from a sheet, its checks computed."""
    from eager_tern.formats.registry import write_pulses
    from eager_tern.formats.timing_text import to_text
    from eager_tern.protocol.fields import Value, value_of
    from eager_tern.protocol.making import make_frame
    from eager_tern.reports.readings import made_document

    given: dict[str, Value] = {}
    for pair in values:
        name, equals, text = pair.partition("=")
        if not equals or not text:
            raise click.BadParameter(f'"{pair}" is not of the form field=value')
        given[name] = value_of(text)

    def work() -> Any:
        made = make_frame(_sheet_named(sheet), given)
        if to is not None:
            write_pulses(to, made.pulses)
        return made

    made = _or_complain(work)
    if as_json:
        _print_json(made_document(made))
    elif to is None:
        print(to_text(made.pulses), end="")


@app.command()
@argument("source", metavar="IN", type=AS_PATH)
@argument("target", metavar="OUT", type=AS_PATH)
@which_polarity
@one_channel
def convert(source: Path, target: Path, polarity: PolarityChoice, channel: int | None) -> None:
    """Read a capture in any format and write its pulses in another.

    The suffix of OUT names the format.
    """
    from eager_tern.formats.capture import ReadOptions
    from eager_tern.formats.registry import read_captures, write_pulses

    def work() -> None:
        first, *others = read_captures(source, ReadOptions(channel))
        for warning in first.warnings:
            _complain(f"{source}: {warning}; what could be read of it is written")
        if others:
            _complain(f"{source}: has {len(others)} more channels or takes, which are left out; --channel picks one")
        write_pulses(target, first.marks(None if polarity == "auto" else polarity)[0], first.notes)

    _or_complain(work)


@app.command()
@in_json
def sources(as_json: bool) -> None:
    """List the live sources on this machine, simulated ones too."""
    from eager_tern.demo.playing import list_sources

    _list("sources", list_sources(), as_json)


@app.command()
@argument("source", help="A source's id, as `eager-tern sources` lists it.")
@argument("target", metavar="OUT", type=AS_PATH)
@option("--seconds", type=click.FloatRange(min=0.1), default=10.0, show_default=True, help="How long to listen.")
def record(source: str, target: Path, seconds: float) -> None:
    """Record raw pulses from a live source to a file."""
    from eager_tern.demo.playing import open_source
    from eager_tern.intake.recording import record as record_to

    stopped = _stopped_by_signals()  # either ends the recording, and keeps it

    def work() -> None:
        with open_source(source) as device:
            recorded = record_to(device, target, seconds, stopped.is_set)
        if recorded.trouble:
            _complain(recorded.trouble)
        if recorded.pulses.durations_us.size:
            print(f"{recorded.path}: {recorded.pulses.durations_us.size} pulses", file=sys.stderr)
        if recorded.trouble or recorded.path != target:
            raise SystemExit(1)

    _or_complain(work)


@app.command()
@in_json
def targets(as_json: bool) -> None:
    """List what can send on this machine, simulated gadgets too.

    A file is a target as well.
    """
    from eager_tern.demo.playing import list_targets

    _list("targets", list_targets(), as_json)


@app.command()
@argument("target", help="As `eager-tern targets` lists it, or a file.")
@argument("what", help="A capture, a sheet or a casebook.")
@argument("args", metavar="[ARG...]", nargs=-1, help="Labels of keys, or field=value for a sheet.")
@option("--press", type=click.IntRange(min=0), help="Only this press of a capture, counted from 0.")
@option("--times", type=click.IntRange(min=0), default=0, help="Frames of each press in all; 0: as many as it has.")
@option(
    "--every", type=float, default=0.5, show_default=True, help="From the end of a press to the start of the next, s."
)
@option("--carrier", type=click.FloatRange(min=0), help="Carrier, Hz; 0: none, for a radio transmitter.")
@option("--as-recorded", is_flag=True, help="Raw timings, whatever a sheet could make.")
@of_gadget
@option("--routine", type=AS_PATH, help="A text of steps, as in a shot list, for a casebook.")
@option("--echo", default="", metavar="SOURCE", help="Listen meanwhile, and compare.")
@in_json
def send(
    target: str, what: str, args: tuple[str, ...], press: int | None, times: int, every: float, carrier: float | None,
    as_recorded: bool, gadget: str, routine: Path | None, echo: str, as_json: bool,
) -> None:  # fmt: skip
    """Say presses to what can send them, and hear what comes of it."""
    from eager_tern.demo.playing import open_ear, open_target
    from eager_tern.reports.sent import describe_sent, sent_document
    from eager_tern.sending.order import Order, ordered, send_order

    stopped = _stopped_by_signals()
    order = Order(what, args, press, times, every, carrier, as_recorded, gadget, routine)

    def work() -> Any:
        presses, sheets = ordered(order)
        sender = open_target(target)
        ear = open_ear(echo, sender) if echo else None
        return send_order(presses, sender, sheets, ear, stopped.is_set, _complain)

    done = _or_complain(work)
    if as_json:
        _print_json(sent_document(target, done, bool(echo)))
    else:
        _say("\n".join(describe_sent(done, bool(echo))))
    if done.trouble:
        _complain(done.trouble)
        raise SystemExit(1)
    if stopped.is_set():
        raise SystemExit(130)
    if echo and not all(one is not None and one.same_bits for one in done.echoes):
        raise SystemExit(3)


@app.command()
@argument("meant", type=AS_PATH)
@argument("heard", type=AS_PATH)
@in_json
def echo(meant: Path, heard: Path, as_json: bool) -> None:
    """Hold what was HEARD against what was MEANT: two captures."""
    from eager_tern.intake.files import read_file
    from eager_tern.protocol.loading import library
    from eager_tern.reports.sent import describe_echoes, echo_document
    from eager_tern.sending.echo import echoes, meant_presses

    def work() -> Any:
        sheets = library()
        (one, *_), (other, *_) = read_file(meant, sheets), read_file(heard, sheets)
        presses = meant_presses(one.take)
        if not presses:
            raise InputError(meant, "holds no press that could be looked for")
        return presses, echoes(presses, other.take, sheets), other.take

    presses, found, take = _or_complain(work)
    if as_json:
        _print_json(echo_document(found, take))
    else:
        _say("\n".join(describe_echoes(presses, found)))
    if not all(one is not None and one.right for one in found):
        raise SystemExit(3)


@app.command("export")
@argument("what", help="A casebook, a sheet's path or a built-in sheet's id.")
@option(
    "--as",
    "kinds",
    metavar="KIND",
    multiple=True,
    required=True,
    help=f"One of {', '.join(EXPORTS)}; several may be given.",
)
@option("--to", metavar="FOLDER", type=AS_PATH, required=True, help="Where the files go; it is made if need be.")
@of_gadget
@option(
    "--template",
    default="full",
    show_default=True,
    help="For payloads: full, code, raw, fields, or a text such as '{label} {code}'.",
)
def take_home(what: str, kinds: tuple[str, ...], to: Path, gadget: str, template: str) -> None:
    """Take a gadget home, in one form or several."""
    from eager_tern.export.subject import subject_of
    from eager_tern.export.writing import KINDS, write_out

    for kind in kinds:
        if kind not in KINDS:
            raise click.BadParameter(f'"{kind}" is none of {", ".join(KINDS)}', param_hint="--as")
    wanted = [KINDS[kind] for kind in dict.fromkeys(kinds)]
    files = _or_complain(lambda: write_out(subject_of(what, gadget), wanted, to, template))
    for file in files:
        _say(str(to / file))


@app.command()
@argument("source", help="A source's id, as `eager-tern sources` lists it.")
@option("--broker", metavar="ADDRESS", required=True, help="mqtt://[USER@]HOST[:PORT], or mqtts:// for TLS.")
@option("--prefix", default="eager-tern", show_default=True, help="What all topics begin with.")
@option("--casebook", type=AS_PATH, help="Whose labels and sheets are used.")
@of_gadget
@option("--target", default="", help="What sends, as `eager-tern targets` lists it.")
@sheets_too
@option("--pulses", is_flag=True, help="Tell raw timings, too.")
@option("--password-file", type=AS_PATH, help=f"Its first line is the password; else {PASSWORD} has it.")
@option("--ca-file", type=AS_PATH, help="Certificates to trust instead of the system's.")
def bridge(
    source: str, broker: str, prefix: str, casebook: Path | None, gadget: str, target: str, sheet: tuple[Path, ...],
    pulses: bool, password_file: Path | None, ca_file: Path | None,
) -> None:  # fmt: skip
    """Publish presses to an MQTT broker, and send what it asks for.

    It goes on until it is stopped.
    """
    import os

    from eager_tern.bridge.bridging import Speaker, known_in, publish_heard, topic_name
    from eager_tern.bridge.bridging import bridge as listen
    from eager_tern.bridge.broker import Broker, address_of, password_in
    from eager_tern.bridge.messages import topics_of
    from eager_tern.demo.playing import open_source, open_target
    from eager_tern.faults import start_log
    from eager_tern.places import sheets_folder
    from eager_tern.protocol.loading import library, load_sheet, sheets_in

    start_log()
    stopped = _stopped_by_signals()
    try:
        address = address_of(broker)
    except InputError as error:
        raise click.BadParameter(error.reason, param_hint="--broker") from None

    def work() -> None:
        known = known_in(casebook, gadget) if casebook is not None else None
        topics = topics_of(prefix, topic_name(source, known))
        own = [
            *(load_sheet(path) for path in sheet),
            *(known.sheets if known else ()),
            *sheets_in(sheets_folder())[0],
        ]
        password = password_in(password_file) if password_file is not None else os.environ.get(PASSWORD, "")
        opened = (lambda: open_target(target)) if target else None
        speaker = Speaker(lambda: link, topics, casebook, gadget, opened)
        link = Broker(
            address, topics.status, topics.send, password=password, ca_file=ca_file, tell=_complain,
            ordered=speaker.ordered,
        )  # fmt: skip
        link.start()
        presses = count()
        try:
            listen(
                lambda: open_source(source),
                (*own, *library()),
                lambda heard: publish_heard(link, topics, heard, next(presses), known, pulses),
                stopped.is_set,
                _complain,
            )
        finally:
            speaker.close()
            link.close()

    _or_complain(work)


@app.command()
@option("--headless", is_flag=True, help="Run the example without a window.")
@option("--folder", type=AS_PATH, help="Where the headless example leaves its files.")
def demo(headless: bool, folder: Path | None) -> None:
    """Open the demo casebook, or run the example without a window."""
    if not headless:
        from eager_tern.demo.place import demo_casebook_path
        from eager_tern.desk.app import run

        raise SystemExit(run(_or_complain(demo_casebook_path)))
    import tempfile

    from eager_tern.demo.headless import run_demo

    started = time.monotonic()
    place = folder or Path(tempfile.mkdtemp(prefix="eager-tern-"))
    place.mkdir(parents=True, exist_ok=True)
    results = _or_complain(lambda: run_demo(place, print))
    good = True
    for result in results:
        caught = sum(key.best is not None for key in result.keys)
        good &= caught == len(result.keys) == result.read_back == result.obeyed
        print(
            f"{result.gadget.name}: {caught} of {len(result.keys)} keys caught, {result.strays} strays set aside, "
            f"{result.read_back} of {caught} exported keys read back the same, "
            f"{result.obeyed} of {caught} obeyed when they were said back"
        )
        print("  " + "  ".join(str(path) for path in result.exported))
    print(f"{time.monotonic() - started:.1f} s")
    if not good:
        raise SystemExit(1)


@app.command("open")
@argument("paths", metavar="[FILE...]", type=AS_PATH, nargs=-1)
def open_window(paths: tuple[Path, ...]) -> None:
    """Open the window."""
    from eager_tern.desk.app import run

    raise SystemExit(run(*paths))
