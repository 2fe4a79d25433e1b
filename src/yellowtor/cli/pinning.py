"""The command `pin`: a person's word on where a record is."""

import getpass
from dataclasses import dataclass
from pathlib import Path

import typer
from rich.text import Text

from yellowtor.answers.decisions import Pin
from yellowtor.cli.console import note, stderr, stdout
from yellowtor.cli.inputs import position_of
from yellowtor.errors import BadJob
from yellowtor.ledger.jobs.pins import PinBook
from yellowtor.run.phases.row_reader import key_as_shown, shown_key
from yellowtor.wiring.ledgers import area_of_job, job_pins


@dataclass(frozen=True)
class PinWish:
    """What the command line says about a pin."""

    at: str | None
    candidate: str | None
    why: str | None
    by: str | None
    address_too: bool
    off: bool


def pin_command(job: Path, key: str | None, wish: PinWish) -> None:
    """Set, remove or list pins."""
    if key is None:
        with job_pins(job) as book:
            _list(book)
        return
    _check(wish)
    if wish.off:
        with job_pins(job) as book:
            if not book.remove(key_as_shown(key)):
                raise BadJob(f"The record {key} of {job} has no pin.")
        stderr().print(f"{key} is no longer pinned. The next run uses the answers of the services.", soft_wrap=True)
        return
    made = _wished(job, key, wish)
    with job_pins(job) as book:
        if not book.put(key_as_shown(key), made._replace(pinned_at=book.now), address_too=wish.address_too):
            raise BadJob(
                f"The ledger knows no record {key} of {job}. Run the job first, if only with --dry-run. Nothing was "
                "pinned."
            )
    what = f"The address of {key}" if wish.address_too else key
    where = f"{made.lat}, {made.lon}"
    stderr().print(f"{what} is pinned at {where}; the next run writes it and asks no service.", soft_wrap=True)
    area = area_of_job(job)
    if area and made.position and not area.holds(made.position):
        note(stderr(), f"{where} lies outside judge.area of {job}: check whether that is right")


def _check(wish: PinWish) -> None:
    where = [one for one in (wish.at, wish.candidate) if one is not None]
    if wish.off and where:
        raise typer.BadParameter("sets a pin, and --off removes it: use one of them", param_hint="--at")
    if len(where) > 1:
        raise typer.BadParameter("both say where it is: use one of them", param_hint="--at, --candidate")
    if not wish.off and (not where or (wish.at is not None and not (wish.why or "").strip())):
        raise typer.BadParameter(
            "use --at LAT,LON --why TEXT or --candidate LETTER to set a pin, or --off to remove it", param_hint="KEY"
        )


def _wished(job: Path, key: str, wish: PinWish) -> Pin:
    """Where the record is, as the command line says."""
    who = wish.by or getpass.getuser()
    if wish.candidate is None:
        position = position_of(wish.at or "")
        return Pin(position.lat, position.lon, who, wish.why or "", "")
    from yellowtor.wiring.reviewing import open_review

    letter = wish.candidate.strip().casefold()
    with open_review(job) as review:
        item = review.item_of(key)
        offers = item.offers if item else ()
    chosen = next((one for one in offers if one.letter == letter), None)
    if chosen is None:
        there = "; ".join(f"{one.letter}: {one.matched}" for one in offers) or "none"
        raise BadJob(f"The record {key} of {job} has no candidate {letter!r} (there are: {there}). Nothing was pinned.")
    why = "; ".join(filter(None, (f"candidate {letter} of {chosen.service}: {chosen.matched}", wish.why)))
    return Pin(*chosen.position, who, why, "", chosen.service, chosen.level, chosen.matched)


def _list(book: PinBook) -> None:
    """A line for each pin; the reason, which may be long, is last."""
    rows = [("key", "latitude", "longitude", "pinned", "by", "why")]
    for key, on_address, pin in book.all():
        what = shown_key(key) + (" (its address)" if on_address else "")
        lat, lon = ("nothing fits", "") if pin.lat is None else (f"{pin.lat:.6f}", f"{pin.lon:.6f}")
        rows.append((what, lat, lon, pin.pinned_at[:10], pin.who, pin.why))
    if len(rows) == 1:
        stderr().print("Nothing is pinned.")
        return
    widths = [max(map(len, column)) for column in zip(*(row[:-1] for row in rows), strict=True)]
    for at, (*cells, why) in enumerate(rows):
        line = "  ".join([*(cell.ljust(width) for cell, width in zip(cells, widths, strict=True)), why])
        stdout().print(Text(line, "" if at else "bright_black"))
