"""The services of a job, with the values of their variables."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from yellowtor.contracts.ambient import Ambient
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.plan import currency_of
from yellowtor.services.description import Description
from yellowtor.services.http import NONE, HttpService
from yellowtor.services.request_maker import Wishes
from yellowtor.services.variables import find_values
from yellowtor.settings import read_settings
from yellowtor.wiring.process import CLOCK, PROCESS


def load_service(
    path: Path, wishes: Wishes = NONE, *, unset_is_shown: bool = False, ambient: Ambient = PROCESS
) -> tuple[HttpService, Sequence[str]]:
    """The service of a description with the values of its variables, and remarks about them.

    unset_is_shown: nothing will be sent, so the name replaces a missing value.
    """
    description = read_settings(path, Description, "service description")
    folder = path.absolute().parent
    find = partial(find_values, description.variables, ambient, folder, unset_is_shown=unset_is_shown)
    values = find()
    return HttpService(description, values, wishes, folder, find), values.remarks


def wishes_of(job: Job) -> Wishes:
    """What a job wants of all its questions."""
    return Wishes(job.direction, job.ask.language, tuple(job.ask.countries), job.judge.thresholds().area)


def load_services(
    job: Job, folder: Path, *, unset_is_shown: bool = False, ambient: Ambient = PROCESS
) -> tuple[Sequence[HttpService], Sequence[str]]:
    """The services of a job, in the order in which they are asked; and remarks about their variables."""
    loaded = [
        load_service(folder / path, wishes_of(job), unset_is_shown=unset_is_shown, ambient=ambient)
        for path in job.ask.all()
    ]
    services = [service for service, _ in loaded]
    check_names([service.name for service in services])
    return services, list(dict.fromkeys(remark for _, remarks in loaded for remark in remarks))


def check_names(names: Sequence[str]) -> None:
    """Raise BadJob if two services have the same name."""
    if twice := [name for at, name in enumerate(names) if name in names[:at]]:
        raise BadJob(f"Two of the job's services have the name {twice[0]!r} (service.name). Nothing was sent.")


def check_extra(job: Job, services: Sequence[HttpService]) -> None:
    """Raise BadJob where the job wants a field that no description adds."""
    added = list(dict.fromkeys(name for service in services for name in service.extra))
    if stray := [name for name in job.write.columns.extra if name not in added]:
        files = ", ".join(map(str, job.ask.all()))
        raise BadJob(
            f"write.columns.extra names {stray[0]!r}, and {files} adds no such field under [reply.extra] "
            f"(it has: {', '.join(added) or 'none'}). Nothing was sent."
        )


def check_currency(services: Sequence[HttpService]) -> None:
    """Raise BadJob where a limit of money would mean nothing, or two things."""
    currencies = {currency for service in services if (currency := currency_of(service, CLOCK.now()))}
    if len(currencies) != 1:
        charged = " and ".join(sorted(currencies)) or "none that has a price ([[allowance.prices]])"
        raise BadJob(
            f"--spend-at-most is of one currency, and the job's services charge in {charged}. Nothing was sent."
        )
