"""The command `pin`: a person's word on where a record is."""

import getpass
from pathlib import Path

import typer
from rich.table import Table
from rich.text import Text

from yellowtor.cli.console import note, stderr, stdout
from yellowtor.cli.inputs import position_of
from yellowtor.errors import BadJob
from yellowtor.ledger.jobs.pins import PinBook
from yellowtor.run.phases.scan import key_as_shown, shown_key
from yellowtor.wiring.ledgers import area_of_job, job_pins


def pin_command(
    job: Path, key: str | None, *, at: str | None, why: str | None, by: str | None, address_too: bool, off: bool
) -> None:
    if key is not None and not off and (at is None or not (why or "").strip()):
        raise typer.BadParameter("use --at LAT,LON --why TEXT to set a pin, or --off to remove it", param_hint="KEY")
    if off and at is not None:
        raise typer.BadParameter("sets a pin, and --off removes it: use one of them", param_hint="--at")
    position = position_of(at) if at is not None else None
    with job_pins(job) as book:
        if key is None:
            _list(book)
        elif position is None:
            if not book.remove(key_as_shown(key)):
                raise BadJob(f"The record {key} of {job} has no pin.")
            stderr().print(f"{key} is no longer pinned. The next run uses the answers of the services.", soft_wrap=True)
        elif book.put(key_as_shown(key), position, by or getpass.getuser(), why or "", address_too=address_too):
            what = f"The address of {key}" if address_too else key
            where = f"{position.lat}, {position.lon}"
            stderr().print(f"{what} is pinned at {where}; the next run writes it and asks no service.", soft_wrap=True)
            area = area_of_job(job)
            if area and not area.holds(position):
                note(stderr(), f"{where} lies outside judge.area of {job}: check whether that is right")
        else:
            raise BadJob(
                f"The ledger knows no record {key} of {job}. Run the job first, if only with --dry-run. Nothing was "
                "pinned."
            )


def _list(book: PinBook) -> None:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black")
    for name in ("key", "latitude", "longitude", "pinned", "by", "why"):
        table.add_column(name, overflow="fold")
    for key, on_address, pin in book.all():
        what = shown_key(key) + (" (its address)" if on_address else "")
        cells = (what, f"{pin.lat:.6f}", f"{pin.lon:.6f}", pin.pinned_at[:10], pin.who, pin.why)
        table.add_row(*map(Text, cells))
    if table.row_count:
        stdout().print(table)
    else:
        stderr().print("Nothing is pinned.")
