"""What requests cost: tiers of a calendar month, from a day on. Money is in integer millionths of its currency."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

MILLION = 1_000_000


@dataclass(frozen=True, slots=True)
class Tier:
    """The price of one request (millionths) up to this number of requests in a month (None: no upper end)."""

    upto: int | None
    each: int


@dataclass(frozen=True, slots=True)
class Price:
    """Tiers in their order, the last without an end; from a day on; the currency by its code of ISO 4217."""

    currency: str
    tiers: tuple[Tier, ...]
    since: date = date.min

    def cost(self, used: int, requests: int) -> int:
        """The cost of more requests, in millionths, after `used` requests of the month."""
        total = 0
        at = used
        rest = requests
        for tier in self.tiers:
            here = rest if tier.upto is None else max(0, min(rest, tier.upto - at))
            total = total + here * tier.each
            at = at + here
            rest = rest - here
        return total

    def affords(self, used: int, amount: int) -> int | None:
        """How many requests an amount (millionths) buys after `used` requests of the month; None: any number."""
        bought = 0
        at = used
        rest = amount
        for tier in self.tiers:
            here = None if tier.upto is None else max(0, tier.upto - at)
            covered = rest // tier.each if tier.each else here
            if here is None or (covered is not None and covered < here):
                return None if covered is None else bought + covered
            bought = bought + here
            at = at + here
            rest = rest - here * tier.each
        return bought


def price_on(prices: Sequence[Price], day: date) -> Price | None:
    """The price of this day; None if there is none."""
    return max((price for price in prices if price.since <= day), key=lambda price: price.since, default=None)


@dataclass
class Budget:
    """What a run may still spend, in millionths; None: all that it takes."""

    left: int | None = None

    def covers(self, cost: int) -> bool:
        return self.left is None or cost <= self.left

    def take(self, cost: int) -> None:
        """Spend it; what is negative is given back."""
        if self.left is not None:
            self.left -= cost


def money(millionths: int, currency: str) -> str:
    """An amount such as 4.50 EUR, with more decimals if it has them."""
    amount = Decimal(millionths) / MILLION
    text = f"{amount:,.2f}" if amount == round(amount, 2) else f"{amount.normalize():,f}"
    return f"{text} {currency}"
