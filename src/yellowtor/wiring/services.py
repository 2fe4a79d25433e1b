"""The services of a job, with the values of their variables."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from yellowtor.contracts.ambient import Ambient
from yellowtor.errors import BadJob
from yellowtor.run.jobs.job import Job
from yellowtor.run.plan import currency_of
from yellowtor.run.ports import Watcher
from yellowtor.services.description import Description
from yellowtor.services.http import NONE, HttpService
from yellowtor.services.reference_service import ReferenceService
from yellowtor.services.reference_settings import ReferenceDescription
from yellowtor.services.request_maker import Wishes
from yellowtor.services.variables import find_values
from yellowtor.settings import read_settings, read_toml
from yellowtor.wiring.process import CLOCK, PROCESS
from yellowtor.wiring.references import ensure_index, reference_place

AnyService = HttpService | ReferenceService
AnyDescription = Description | ReferenceDescription
WHAT = "service description"


def read_description(path: Path) -> AnyDescription:
    """The description of a service, or of a reference table. Raises BadJob."""
    if "reference" in read_toml(path, WHAT):
        return read_settings(path, ReferenceDescription, WHAT)
    return read_settings(path, Description, WHAT)


def load_service(
    path: Path,
    wishes: Wishes = NONE,
    *,
    unset_is_shown: bool = False,
    ambient: Ambient = PROCESS,
    watch: Watcher | None = None,
) -> tuple[AnyService, Sequence[str]]:
    """The service of a description with the values of its variables, and remarks about them.

    unset_is_shown: nothing will be asked, so the name replaces a missing value, and the index of a reference table is
    not built. watch shows how it is built.
    """
    description = read_description(path)
    if isinstance(description, ReferenceDescription):
        place = reference_place(description, path)
        if not unset_is_shown:
            ensure_index(place, watch, ambient)
        return ReferenceService(description, wishes, place.index, place.version, place.shown_as), ()
    folder = path.absolute().parent
    find = partial(find_values, description.variables, ambient, folder, unset_is_shown=unset_is_shown)
    values = find()
    return HttpService(description, values, wishes, folder, find), values.remarks


def wishes_of(job: Job) -> Wishes:
    """What a job wants of all its questions."""
    return Wishes(job.direction, job.ask.language, tuple(job.ask.countries), job.judge.thresholds().area)


def load_services(
    job: Job, folder: Path, *, unset_is_shown: bool = False, ambient: Ambient = PROCESS, watch: Watcher | None = None
) -> tuple[Sequence[AnyService], Sequence[str]]:
    """The services of a job, in the order in which they are asked; and remarks about their variables."""
    loaded = [
        load_service(folder / path, wishes_of(job), unset_is_shown=unset_is_shown, ambient=ambient, watch=watch)
        for path in job.ask.all()
    ]
    services = [service for service, _ in loaded]
    check_names([service.name for service in services])
    return services, list(dict.fromkeys(remark for _, remarks in loaded for remark in remarks))


def check_names(names: Sequence[str]) -> None:
    """Raise BadJob if two services have the same name."""
    if twice := [name for at, name in enumerate(names) if name in names[:at]]:
        raise BadJob(f"Two of the job's services have the name {twice[0]!r} (service.name). Nothing was sent.")


def check_extra(job: Job, services: Sequence[AnyService]) -> None:
    """Raise BadJob where the job wants a field that no description adds."""
    added = list(dict.fromkeys(name for service in services for name in service.extra))
    if stray := [name for name in job.write.columns.extra if name not in added]:
        files = ", ".join(map(str, job.ask.all()))
        raise BadJob(
            f"write.columns.extra names {stray[0]!r}, and {files} adds no such field under [reply.extra] "
            f"(it has: {', '.join(added) or 'none'}). Nothing was sent."
        )


def check_currency(services: Sequence[AnyService]) -> None:
    """Raise BadJob where a limit of money would mean nothing, or two things."""
    currencies = {currency for service in services if (currency := currency_of(service, CLOCK.now()))}
    if len(currencies) != 1:
        charged = " and ".join(sorted(currencies)) or "none that has a price ([[allowance.prices]])"
        raise BadJob(
            f"--spend-at-most is of one currency, and the job's services charge in {charged}. Nothing was sent."
        )
