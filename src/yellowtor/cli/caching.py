"""The commands `cache …`: what the ledger knows, for people."""

import getpass
import json
from pathlib import Path

import typer
from rich.console import Console
from rich.text import Text

from yellowtor.addresses.canonical import canonical
from yellowtor.answers.cache_entry import Entry, KnownReply, SizeOf
from yellowtor.cli.console import Progress, columns, mark, short, stderr, stdout, write_out
from yellowtor.cli.inputs import check_ending, position_of
from yellowtor.errors import BadJob
from yellowtor.files import written_aside
from yellowtor.ledger.maintenance.cache_book import SqlCacheBook
from yellowtor.run import cache
from yellowtor.run.phases.row_reader import shown_key
from yellowtor.wiring.ledgers import cache_book, fixed_parts
from yellowtor.wiring.process import CLOCK

SHOWN = 5  # addresses that are named where one is not clear
SURE = 97.0  # of 100: so alike, it is that address
MOST_RECORDS = 20  # that are named


def sizes_command(job: Path | None, ledger: Path | None, *, as_json: bool) -> None:
    with cache_book(job, ledger) as (book, where):
        sizes = book.sizes()
    if as_json:
        write_out(json.dumps(sizes._asdict() | {"replies": [one._asdict() for one in sizes.replies]}, indent=2))
        return
    console = stdout()
    console.print(f"{where}: {sizes.addresses:,} addresses, {sizes.requests:,} requests, {sizes.pins:,} pins")
    table = columns("service", "replies", "of kind", "size", "oldest", "newest", left={"of kind", "oldest", "newest"})
    for one in sizes.replies:
        table.add_row(f"  {one.service}", f"{one.replies:,}", one.kind, _size(one), one.oldest[:10], one.newest[:10])
    if sizes.replies:
        console.print(table)


def find_command(job: Path | None, ledger: Path | None, text: str, most: int, *, as_json: bool) -> None:
    progress = Progress(stderr())
    with cache_book(job, ledger) as (book, _), progress.shown():
        found = cache.find(book, text, most, progress)
    if as_json:
        write_out(json.dumps([one._asdict() for one in found], ensure_ascii=False, indent=2))
        return
    if not found:
        stderr().print("The ledger has no similar address.")
        return
    table = columns("number", "address", "alike", left={"address"})
    for one in found:
        table.add_row(f"  {one.number}", Text(one.line), f"{one.likeness:.0f}")
    stdout().print(table)
    stderr().print("`yellowtor cache show NUMBER` shows everything about one.")


def show_command(job: Path | None, ledger: Path | None, address: str, *, as_json: bool) -> None:
    with cache_book(job, ledger) as (book, _):
        entry = _entry(book, address)
    if as_json:
        write_out(json.dumps(_json(entry), ensure_ascii=False, indent=2))
    else:
        _show(stdout(), entry)


def pin_command(
    job: Path | None, ledger: Path | None, address: str, *, at: str | None, like: str | None, why: str, by: str | None
) -> None:
    if (at is None) == (like is None):
        raise typer.BadParameter("give either a position or a known address", param_hint="--at, --like")
    with cache_book(job, ledger) as (book, _):
        entry = _entry(book, address)
        if like is not None:
            other = _entry(book, like)
            points = [one for one in other.standings if one.lat is not None and one.lon is not None]
            if not points:
                raise BadJob(f"The ledger knows no position of address {like}: {_line(other)}. Nothing was pinned.")
            at = f"{points[0].lat},{points[0].lon}"
            why = f"{why} (as {_line(other)})"
        position = position_of(at or "")
        book.pin(entry.number, position, by or getpass.getuser(), why)
    where = f"{position.lat}, {position.lon}"
    stderr().print(
        f"{_line(entry)} is pinned at {where}; the next run writes this and asks no service.", soft_wrap=True
    )


def unpin_command(job: Path | None, ledger: Path | None, address: str) -> None:
    with cache_book(job, ledger) as (book, _):
        entry = _entry(book, address)
        if not book.unpin(entry.number):
            raise BadJob(f"The address {entry.number} has no pin: {_line(entry)}.")
    stderr().print(
        f"{_line(entry)} is no longer pinned. The next run uses the answers of the services.", soft_wrap=True
    )


def forget_command(
    job: Path | None, ledger: Path | None, addresses: list[str], *, every_trace: bool, yes: bool
) -> None:
    with cache_book(job, ledger) as (book, _):
        entries = [_entry(book, address) for address in addresses]
        if not yes:
            for entry in entries:
                stderr().print(f"{entry.number}: {_line(entry)}", soft_wrap=True)
            typer.confirm("Delete these replies? Their cost is not refunded", abort=True, err=True)
        count = book.forget([entry.number for entry in entries], every_trace=every_trace)
    what = "every trace" if every_trace else "the replies"
    stderr().print(f"{len(entries):,} addresses: {what} deleted ({count:,} replies).", soft_wrap=True)
    if every_trace:
        stderr().print("Written files and backups are not part of the ledger: delete it there too.", soft_wrap=True)


def expire_command(job: Path | None, ledger: Path | None, older_than: int | None, service: str | None) -> None:
    with cache_book(job, ledger) as (book, _):
        counts = book.expire(older_than, service)
    for name, count in counts.items():
        stderr().print(f"{name}: {count:,} replies are deleted; questions that are still needed are asked again.")
    if not counts:
        stderr().print("No reply is too old.")


def export_command(job: Path | None, ledger: Path | None, into: Path) -> None:
    check_ending(into, "INTO", ".geojson", ".json")
    with cache_book(job, ledger) as (book, _), written_aside(into) as aside, aside.open("w", encoding="utf-8") as file:
        replies, pins = cache.write_export(book, file)
    stderr().print(f"{replies:,} replies and {pins:,} decisions are in {into} (GeoJSON)", soft_wrap=True)


def import_command(job: Path | None, ledger: Path | None, path: Path, *, why: str, by: str | None) -> None:
    progress = Progress(stderr())
    who = by or getpass.getuser()
    fixed = fixed_parts(job)
    with cache_book(job, ledger, make=True) as (book, _), progress.shown():
        replies, pins, read = cache.take_over(book, path, who, why, fixed, CLOCK.now(), progress)
    known = read - replies - pins
    said = f"{replies:,} replies and {pins:,} decisions are imported from {path}" + (
        f"; {known:,} were known already" if known else ""
    )
    stderr().print(f"{said}. They take effect at the next run, without a request.", soft_wrap=True)


def _entry(book: SqlCacheBook, address: str) -> Entry:
    """The entry of an address, given as number or text. Raises BadJob if none or several match."""
    if address.isascii() and address.isdecimal():
        if entry := book.entry(int(address)):
            return entry
        raise BadJob(f"The ledger has no address with the number {address}: `yellowtor cache find` shows numbers.")
    found = cache.find(book, address, SHOWN, Progress(stderr()))
    same = [one for one in found if canonical(one.line) == canonical(address)]
    chosen = same or [one for one in found if one.likeness >= SURE]
    if len(chosen) == 1 and (entry := book.entry(chosen[0].number)):
        return entry
    if not found:
        raise BadJob(f"The ledger has no address similar to {address!r}. --job JOB.toml selects the ledger of a job.")
    named = "; ".join(f"{one.number}: {one.line}" for one in found)
    raise BadJob(f"{address!r} is ambiguous. Give the number of one of these: {named}.")


def _line(entry: Entry) -> str:
    return entry.subject.line()


def _show(console: Console, entry: Entry) -> None:
    console.print(Text(_line(entry), "bold").append(f"  number {entry.number}", "bright_black"))
    for key, pin in entry.pins:
        whose = f"its record {shown_key(key)} is" if key else "it is"
        where = "" if pin.lat is None else f": {pin.lat}, {pin.lon}"
        console.print(Text(f"  {whose} {pin.said}{where}", "yellow"))
    for corrected in entry.corrections:
        lines = f"{corrected.asked.line()} → {corrected.corrected.line()}"
        console.print(Text(f"  {corrected.said}: {lines}", "yellow"))
    for reply in entry.replies:
        _show_reply(console, reply)
    for one in entry.standings:
        point = f"{one.lat}, {one.lon}" if one.lat is not None else "no point"
        sure = f" · confidence {one.confidence:.2f} ({one.basis})" if one.confidence is not None else ""
        level = f" · {one.level}" if one.level else ""
        console.print(
            Text("\n  ").append_text(_mark(one.outcome)).append(f" by {short(one.job)}: {point}{level}{sure}")
        )
    if entry.requests:
        table = columns(
            "asked (UTC)",
            "service",
            "reply",
            "cost",
            "took",
            "by",
            "for the job",
            left={"service", "reply", "by", "for the job"},
        )
        for asked in entry.requests:
            took = f"{asked.took_ms} ms" if asked.took_ms is not None else "–"
            by = f"{asked.who}@{asked.host}" if asked.who else "–"
            cost = f"{asked.cost / 1e6:g}" if asked.cost else "–"
            cells = (asked.service or asked.account, asked.kind or asked.state, cost, took, by, short(asked.job))
            table.add_row(f"  {asked.reserved_at[:19].replace('T', ' ')}", *map(Text, cells))
        console.print()
        console.print(table)
    if entry.records:
        named = ", ".join(shown_key(key) for _, key, _ in entry.records[:MOST_RECORDS])
        more = " …" if len(entry.records) > MOST_RECORDS else ""
        have = "1 record has" if len(entry.records) == 1 else f"{len(entry.records):,} records have"
        console.print(f"\n  {have} it: {named}{more}")


def _show_reply(console: Console, reply: KnownReply) -> None:
    said = f": {reply.message}" if reply.message else ""
    when = reply.received_at[:19].replace("T", " ")
    console.print(
        f"\n  {reply.service}, {when} UTC: {reply.kind}{said} (HTTP {reply.status}, {len(reply.body):,} bytes)"
    )
    for at, found in enumerate(reply.candidates, 1):
        place = found["position"]
        parts = found["parts"]
        words = found["label"] or " ".join(parts.values())
        console.print(Text(f"    {at}. {place['lat']}, {place['lon']}  {found['level'] or ''}  {words}"))
    if reply.kind == "answered" and not reply.candidates:
        console.print(Text("    its candidates are read when a run judges it", "bright_black"))


def _mark(outcome: str) -> Text:
    from yellowtor.contracts.outcome import Outcome

    return mark(next(one for one in Outcome if one.value == outcome))


def _json(entry: Entry) -> dict[str, object]:
    corrections = [
        {**one._asdict(), "asked": one.asked.as_dict(), "corrected": one.corrected.as_dict()}
        for one in entry.corrections
    ]
    return {
        "number": entry.number,
        "parts": entry.subject.as_dict(),
        "address": _line(entry),
        "replies": [one._asdict() | {"body": one.body.decode(errors="replace")} for one in entry.replies],
        "requests": [one._asdict() for one in entry.requests],
        "standings": [one._asdict() for one in entry.standings],
        "pins": [{"record": key or None, **pin._asdict()} for key, pin in entry.pins],
        "corrections": corrections,
        "records": [{"job": job, "key": key, "state": state} for job, key, state in entry.records],
    }


def _size(one: SizeOf) -> str:
    return f"{one.bytes / 2**20:.1f} MiB" if one.bytes >= 2**19 else f"{one.bytes / 2**10:.1f} KiB"
