"""The options that several commands have, and what is made of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, get_args

import click

from eager_tern.cli.output import or_complain
from eager_tern.errors import InputError, did_you_mean

AS_PATH = click.Path(path_type=Path)
PolarityChoice = Literal["mark-low", "mark-high", "auto"]
option, argument = click.option, click.argument

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


def manner_of(
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
    sheets = or_complain(lambda: tuple(load_sheet(path) for path in sheet))
    options = ReadOptions(channel, samples=described, rate_hz=rate or None)
    by_hand = ByHand(None if polarity == "auto" else polarity, threshold, shortest, gap)
    return Manner(sheets, options, by_hand, _said(line_code))


def sheet_named(name: str) -> Any:
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
