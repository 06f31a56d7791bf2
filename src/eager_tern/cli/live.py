"""The commands that hear and send: sources, targets and the bridge between them and a broker."""

from __future__ import annotations

import sys
from itertools import count
from pathlib import Path
from typing import Any

import click

from eager_tern.cli.options import AS_PATH, argument, in_json, of_gadget, option, sheets_too
from eager_tern.cli.output import complain, or_complain, print_json, print_list, say, stopped_by_signals
from eager_tern.errors import InputError

PASSWORD = "EAGER_TERN_BROKER_PASSWORD"


@click.command()
@in_json
def sources(as_json: bool) -> None:
    """List the live sources on this machine, simulated ones too."""
    from eager_tern.demo.playing import list_sources

    print_list("sources", list_sources(), as_json)


@click.command()
@argument("source", help="A source's id, as `eager-tern sources` lists it.")
@argument("target", metavar="OUT", type=AS_PATH)
@option("--seconds", type=click.FloatRange(min=0.1), default=10.0, show_default=True, help="How long to listen.")
def record(source: str, target: Path, seconds: float) -> None:
    """Record raw pulses from a live source to a file."""
    from eager_tern.demo.playing import open_source
    from eager_tern.intake.recording import record as record_to

    stopped = stopped_by_signals()  # either ends the recording, and keeps it

    def work() -> None:
        with open_source(source) as device:
            recorded = record_to(device, target, seconds, stopped.is_set)
        if recorded.trouble:
            complain(recorded.trouble)
        if recorded.pulses.durations_us.size:
            print(f"{recorded.path}: {recorded.pulses.durations_us.size} pulses", file=sys.stderr)
        if recorded.trouble or recorded.path != target:
            raise SystemExit(1)

    or_complain(work)


@click.command()
@in_json
def targets(as_json: bool) -> None:
    """List what can send on this machine, simulated gadgets too.

    A file is a target as well.
    """
    from eager_tern.demo.playing import list_targets

    print_list("targets", list_targets(), as_json)


@click.command()
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

    stopped = stopped_by_signals()
    order = Order(what, args, press, times, every, carrier, as_recorded, gadget, routine)

    def work() -> Any:
        presses, sheets = ordered(order)
        sender = open_target(target)
        ear = open_ear(echo, sender) if echo else None
        return send_order(presses, sender, sheets, ear, stopped.is_set, complain)

    done = or_complain(work)
    if as_json:
        print_json(sent_document(target, done, bool(echo)))
    else:
        say("\n".join(describe_sent(done, bool(echo))))
    if done.trouble:
        complain(done.trouble)
        raise SystemExit(1)
    if stopped.is_set():
        raise SystemExit(130)
    if echo and not all(one is not None and one.same_bits for one in done.echoes):
        raise SystemExit(3)


@click.command()
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
    stopped = stopped_by_signals()
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
            address, topics.status, topics.send, password=password, ca_file=ca_file, tell=complain,
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
                complain,
            )
        finally:
            speaker.close()
            link.close()

    or_complain(work)
