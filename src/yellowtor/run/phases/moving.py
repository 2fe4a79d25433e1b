"""Whether more records would move than the job allows: then the service or the source has changed."""

from yellowtor.contracts.position import distance_m, length
from yellowtor.run.jobs.job import Job
from yellowtor.run.ports import JudgeBook


def too_many_moved(job: Job, book: JudgeBook, most: float | None) -> str:
    """Why nothing is to be written; empty if no more move than the job, or most, allows (a share, 0 to 1)."""
    allowed = job.write.most_moved if most is None else most
    if allowed is None:
        return ""
    tolerance = job.judge.tolerance_m
    placed = moved = 0
    for written, now in book.comparison.written_and_now():
        placed += 1
        moved += written != now and distance_m(written, now) > tolerance
    if moved <= allowed * placed:
        return ""
    return (
        f"{moved:,} of {placed:,} placed records ({moved / placed:.1%}) would move farther than {length(tolerance)} "
        f"from where they were written; {allowed:.1%} may (write.most_moved). The service or the source has changed: "
        "`yellowtor compare JOB@-1 JOB` shows what moved. To write it anyway: run --most-moved 100%."
    )
