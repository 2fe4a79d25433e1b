"""The page of a comparison: what moved, with a line from one position to the other."""

from pathlib import Path

from yellowtor.contracts.marker import OUTCOME_LOOKS, Marker, MarkerHead
from yellowtor.contracts.outcome import Outcome
from yellowtor.contracts.position import length
from yellowtor.run.compare import Comparison
from yellowtor.run.jobs.job import Job
from yellowtor.settings import read_settings
from yellowtor.wiring.ledgers import ledger_of
from yellowtor.wiring.markers import credit_of, map_view
from yellowtor.wiring.outputs import check_output
from yellowtor.wiring.services import load_services

COLUMNS = ("Apart", "A", "B")


def write_page(page: Path, found: Comparison, path: Path) -> None:
    """Write the page, with the map of this job. Raises BadJob if the page is a file of the job."""
    from yellowtor.markers.formats.page import open_file
    from yellowtor.markers.target import MarkerTarget

    job = read_settings(path, Job, "job")
    folder = path.absolute().parent
    ledger = ledger_of(job, folder)
    check_output(page, job, path, ledger if isinstance(ledger, Path) else None)
    services, _ = load_services(job, folder, unset_is_shown=True)
    under = [folder / layer for layer in job.markers.under]
    head = MarkerHead(f"A: {found.names[0]}, B: {found.names[1]}", COLUMNS)
    target = MarkerTarget(page, head, credit_of(services), under, view=map_view(job.markers, folder))
    with open_file(target) as made:
        for pair in found.farthest:
            outcome = pair.other.outcome or Outcome.WAITING
            made.add(
                Marker(
                    pair.key.replace("\x1f", " / "),
                    pair.key.replace("\x1f", " / "),
                    outcome,
                    pair.other.position,
                    OUTCOME_LOOKS[outcome],
                    asked=pair.one.address or pair.other.address,
                    matched=pair.other.matched,
                    level=pair.other.level,
                    confidence=pair.other.confidence,
                    columns={
                        "Apart": length(pair.away_m),
                        "A": pair.one.matched or str(pair.one.outcome or ""),
                        "B": pair.other.matched or str(outcome),
                    },
                    before=pair.one.position,
                )
            )
