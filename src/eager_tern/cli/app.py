"""All commands, the window among them."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import click

from eager_tern import __version__
from eager_tern.cli import files, live
from eager_tern.cli.options import AS_PATH, argument, option
from eager_tern.cli.output import complain, or_complain
from eager_tern.places import log_path

ABOUT = "Find out what a remote control, a sensor or a toy is saying."
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
        complain(f"something went wrong inside ({type(error).__name__}: {error}); {log_path()} says more")
        sys.exit(1)


@app.command()
@option("--headless", is_flag=True, help="Run the example without a window.")
@option("--folder", type=AS_PATH, help="Where the headless example leaves its files.")
def demo(headless: bool, folder: Path | None) -> None:
    """Open the demo casebook, or run the example without a window."""
    if not headless:
        from eager_tern.demo.place import demo_casebook_path
        from eager_tern.desk.app import run

        raise SystemExit(run(or_complain(demo_casebook_path)))
    import tempfile

    from eager_tern.demo.headless import run_demo

    started = time.monotonic()
    place = folder or Path(tempfile.mkdtemp(prefix="eager-tern-"))
    place.mkdir(parents=True, exist_ok=True)
    results = or_complain(lambda: run_demo(place, print))
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


for command in (
    files.read, files.compare, files.make, files.convert, files.echo, files.take_home,
    live.sources, live.record, live.targets, live.send, live.bridge,
):  # fmt: skip
    app.add_command(command)
