"""Serves the review page until all is settled, or Ctrl-C."""

import asyncio
from collections.abc import Mapping, Sequence
from pathlib import Path

from yellowtor.cli.console import note, short, stderr, stdout
from yellowtor.contracts.outcome import Outcome
from yellowtor.errors import BadJob
from yellowtor.run.phases.decision_rows import read_decision
from yellowtor.serving.review_server import DecisionsTaken, ReviewServer
from yellowtor.wiring.markers import credit_of
from yellowtor.wiring.reviewing import ReviewFiles, job_to_review, open_deciding, open_review
from yellowtor.wiring.services import load_services


class ServedReview:
    """A job's review behind a page: each page is what is still to be decided."""

    def __init__(self, path: Path, outcomes: Sequence[Outcome], who: str) -> None:
        self._path = path
        self._outcomes = outcomes
        self._who = who
        self._job = job_to_review(path)
        self._services, _ = load_services(self._job, path.absolute().parent, unset_is_shown=True)
        self.decided = 0

    def page(self) -> str:
        """The page with the next addresses."""
        with open_review(self._path, self._outcomes) as review:
            page = ReviewFiles(self._job, self._path, review, credit_of(self._services)).page()
            groups = {group.number: group for group in review.groups}
            for item in review.items():
                if page.is_full:
                    break
                page.add(item, groups[item.row.group])
            return page.html((1, 1), serves=True)

    def left(self) -> int:
        """How many addresses nobody has decided about."""
        with open_review(self._path, self._outcomes) as review:
            return review.questions

    def take(self, rows: Sequence[Mapping[str, str]]) -> DecisionsTaken:
        """Store decisions in the ledger."""
        faults = []
        with open_deciding(self._path, self._who) as deciding:
            for row in rows:
                try:
                    if row["decision"] == "undo":
                        deciding.undo(row["id"])
                        self.decided -= 1
                    elif decision := read_decision(row):
                        deciding.decide(row["id"], decision)
                        self.decided += 1
                except ValueError as error:
                    faults.append(str(error))
        return DecisionsTaken(faults, self.left())


def serve_review(path: Path, outcomes: Sequence[Outcome], who: str, port: int) -> None:
    """Serve the page; ends when all is settled. Raises BadJob if the port is taken."""
    served = ServedReview(path, outcomes, who)
    if not served.left():
        stderr().print("Nothing is to be decided.")
        return
    try:
        asyncio.run(_serve(served, port))
    except OSError as error:
        raise BadJob(f"--port {port}: {error.strerror or error}. Use another one.") from error
    except KeyboardInterrupt:
        stderr().print()
    left = served.left()
    stderr().print(
        f"{served.decided:,} decided, {left:,} left. Now run the job: yellowtor run {short(path)}", soft_wrap=True
    )


async def _serve(served: ServedReview, port: int) -> None:
    server = ReviewServer(served.page, served.take)
    async with server.running(port) as address:
        stdout().print(address, soft_wrap=True)
        note(stderr(), "open this address in your browser; it is for you only. Ctrl-C ends it; what is decided is kept")
        await server.settled.wait()
