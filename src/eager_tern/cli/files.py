"""The commands that work on files: captures, sheets and casebooks."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace

from eager_tern.cli.options import (
    AS_PATH,
    PolarityChoice,
    argument,
    by_hand,
    in_json,
    manner_of,
    of_gadget,
    one_channel,
    option,
    sheet_named,
    which_polarity,
)
from eager_tern.cli.output import complain, or_complain, print_json, say
from eager_tern.errors import InputError
from eager_tern.replacing import write_text

EXPORTS = ("table", "payloads", "header", "c", "python", "sketch", "page", "parcel")


@click.command()
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

    asked = or_complain(lambda: sheet_named(why)) if why else None
    own, wrong = sheets_in(sheets_folder())
    for problem in wrong:
        complain(problem)
    manner = manner_of(**said)
    manner = replace(manner, sheets=with_own(manner.sheets, own))
    takes, failed = [], False
    for path in paths:
        try:
            found = manner.read(path)
        except InputError as error:
            complain(error)
            failed = True
            continue
        for one in found:
            for warning in one.capture.warnings:
                complain(f"{path}: {warning}; what could be read of it is reported")
            for advice in one.advice(len(one.take.frames)):
                complain(f"{path}: {advice}")
        takes += found
    if as_json:
        print_json(readings_document(takes, noise, asked))
    else:
        for one in takes:
            say("\n".join(describe_take(one, noise, asked)))
    if failed:
        raise SystemExit(1)


@click.command()
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

    manner = manner_of(**said)
    gathered = or_complain(lambda: gather(paths, labels, manner))
    for words in (*gathered.words, *gathered.failed):
        complain(words)
    found = compare_stack(gathered.stack)
    verdicts = {accepting(finding) for finding in accept}
    proved = prove(found, left_out(found.stack), verdicts) if proof or write_up is not None else None
    kept = settled(found, verdicts)
    left = [named(each) for each in left_open(found, kept)]
    if left and write_sheet is not None:
        complain(f"{write_sheet}: leaves out what is only possible: {', '.join(left)} (--accept takes it in)")
    draft = sheet_of(kept, gathered.line)
    if write_sheet is not None:
        for reason in on_trial(draft.sheet, kept, gathered.frames, gathered.names):
            complain(f"{write_sheet}: {reason}")
        or_complain(lambda: write_text(write_sheet, draft.text))
    if write_up is not None:
        pulses = gathered.frames[0].as_read
        blocks = written_up(found, draft.sheet, pulses, draft.text, proved)
        or_complain(lambda: publish(write_up, blocks))
    if as_json:
        print_json(comparison_document(found, proved))
    else:
        say("\n".join(describe_comparison(found, gathered.names, proved)))
    if gathered.failed:
        raise SystemExit(1)


@click.command()
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
        made = make_frame(sheet_named(sheet), given)
        if to is not None:
            write_pulses(to, made.pulses)
        return made

    made = or_complain(work)
    if as_json:
        print_json(made_document(made))
    elif to is None:
        print(to_text(made.pulses), end="")


@click.command()
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
            complain(f"{source}: {warning}; what could be read of it is written")
        if others:
            complain(f"{source}: has {len(others)} more channels or takes, which are left out; --channel picks one")
        write_pulses(target, first.marks(None if polarity == "auto" else polarity)[0], first.notes)

    or_complain(work)


@click.command()
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

    presses, found, take = or_complain(work)
    if as_json:
        print_json(echo_document(found, take))
    else:
        say("\n".join(describe_echoes(presses, found)))
    if not all(one is not None and one.right for one in found):
        raise SystemExit(3)


@click.command("export")
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
    files = or_complain(lambda: write_out(subject_of(what, gadget), wanted, to, template))
    for file in files:
        say(str(to / file))
