"""A short dialogue in the terminal: one address after the other."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import typer
from rich.text import Text

from yellowtor.answers.review import ReviewItem
from yellowtor.cli.console import short, stderr
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import length
from yellowtor.contracts.review_file import AT, NEW
from yellowtor.run.phases.decision_rows import read_decision
from yellowtor.wiring.reviewing import job_to_review, open_deciding, open_review, parts_of

HELP = "a … e: this candidate · n: nothing fits · coordinates · r: rewrite · Enter: skip · q: end"


def ask_review(path: Path, outcomes: Sequence[Outcome], who: str) -> None:
    """Ask about each address; every decision is stored at once."""
    out = stderr()
    decided = seen = 0
    parts = parts_of(job_to_review(path))
    with open_review(path, outcomes) as review:
        total = review.questions
        groups = {group.number: group for group in review.groups}
        for item in review.items():
            seen += 1
            out.print(Text(f"\n{seen} of {total}  ", "bright_black").append(groups[item.row.group].title))
            _show(item)
            try:
                said = typer.prompt(HELP, default="", show_default=False, err=True).strip()
                if said.casefold() == "q":
                    break
                decided += _decide(path, item, said, who, parts)
            except typer.Abort:  # Ctrl-C, or the end of the input
                break
    out.print(f"{decided:,} decided. Now run the job: yellowtor run {short(path)}", soft_wrap=True)


def _show(item: ReviewItem) -> None:
    out = stderr()
    more = f" and {item.row.records - 1:,} more" if item.row.records > 1 else ""
    out.print(Text(item.row.subject.line(), "bold").append(f"  {item.row.key}{more}", "bright_black"))
    for reason in item.row.reasons:
        out.print(Text(f"  · {reason}", "bright_black"))
    for offer in item.offers:
        line = Text(f"  {offer.letter}  ", "bold")
        for word, known in offer.words:
            line.append(f"{word} ", "default" if known else "red bold")
        away = "" if offer.letter == "a" else f" · {length(offer.away_m)} from a"
        line.append(f" {offer.level} · {offer.confidence:.2f}{away}", "bright_black")
        out.print(line)
        for difference in offer.differences:
            out.print(Text(f"       {difference}", "yellow"))


def _decide(path: Path, item: ReviewItem, said: str, who: str, parts: Sequence[str]) -> int:
    """Store one decision; asks again while it is not understood. How many were stored."""
    while said:
        try:
            decision = read_decision(_cells(item, said, parts))
            if decision is None:
                return 0
            with open_deciding(path, who) as deciding:
                deciding.decide(item.row.id, decision)
        except ValueError as error:
            stderr().print(Text(str(error), "red"))
            said = typer.prompt(HELP, default="", show_default=False, err=True).strip()
        else:
            return 1
    return 0


def _cells(item: ReviewItem, said: str, parts: Sequence[str]) -> Mapping[str, str]:
    """What was said, as the cells of a file have it."""
    at = {f"{offer.letter}{AT}": f"geo:{offer.position.lat},{offer.position.lon}" for offer in item.offers}
    short_for = {"n": "nothing", "s": "skip"}
    word = said.casefold()
    if word == "r":
        old = item.row.subject.as_dict()
        typed = {
            part: typer.prompt(f"  {part}", default=old.get(part, ""), show_default=True, err=True) for part in parts
        }
        changed = {f"{NEW}{part}": text for part, text in typed.items() if text.strip() != old.get(part, "")}
        return {"decision": "address", **changed}
    if len(word) == 1 or word in {"nothing", "skip"}:
        return {"decision": short_for.get(word, word), **at}
    return {"coordinates": said}
