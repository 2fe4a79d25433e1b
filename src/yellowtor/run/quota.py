"""The verb `quota`: what the allowances of a job's services have left, and what they were used for."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from yellowtor.allowance.windows import Left, Window
from yellowtor.run.plan import currency_of
from yellowtor.run.ports import Service, UsageBook

DAYS = 14


@dataclass(frozen=True)
class Quota:
    """One account, and the services that are charged to it: its pace, windows; requests by day, job and kind of reply.

    by_day has the last fortnight, days without a request left out; by_job, by_kind and the cost (millionths of
    currency) are of this month (UTC).
    """

    account: str
    services: Sequence[str]
    per_second: float | None
    windows: Sequence[Left]
    by_day: Mapping[str, int]
    by_job: Mapping[str, int]
    by_kind: Mapping[str, int]
    cost: int
    currency: str


def quotas(services: Sequence[tuple[Service, Sequence[Window]]], book: UsageBook, now: datetime) -> list[Quota]:
    """Of each account, in the order of the services; the windows of the first that is charged to it are shown."""
    found = []
    month = now.astimezone(UTC).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    fortnight = now - timedelta(days=DAYS)
    for account in dict.fromkeys(service.account for service, _ in services):
        mine = [service for service, _ in services if service.account == account]
        windows = next(counted for service, counted in services if service.account == account)
        used = book.used(account, min(month, fortnight))
        days = Counter[str]()
        jobs = Counter[str]()
        kinds = Counter[str]()
        for item in used:
            days[item.day] += item.requests * (item.day > fortnight.date().isoformat())
            if item.day >= month.date().isoformat():
                jobs[item.job] += item.requests
                kinds[item.kind] += item.requests
        cost = sum(item.cost for item in used if item.day >= month.date().isoformat())
        currency = currency_of(mine[0], now)
        left = book.left(account, windows, now)
        names = [service.name for service in mine]
        found.append(
            Quota(account, names, mine[0].pace.per_second, left, dict(+days), dict(jobs), dict(kinds), cost, currency)
        )
    return found
