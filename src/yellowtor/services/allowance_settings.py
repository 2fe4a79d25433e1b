"""The part of a description that says what a service allows and costs."""

from datetime import date
from decimal import Decimal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, field_validator, model_validator

from yellowtor.allowance.price import Price, Tier
from yellowtor.allowance.windows import Span
from yellowtor.caps import CapRule, check_caps
from yellowtor.settings import Settings


class WindowRule(Settings):
    """A quota: a number of requests in a span of time."""

    requests: int = Field(ge=1, description="The number of requests (or questions, see `many.counts`) in the window.")
    span: Span = Field(alias="in", description="One of: " + ", ".join(f"`{span}`" for span in Span) + ".")
    rolling: bool = Field(
        False,
        description="`true`: any span of this length (a month has 30 days). `false`: the calendar's day, week or "
        "month.",
    )
    leave: int = Field(0, ge=0, description="The number of them to leave for others who use the key.")

    @model_validator(mode="after")
    def _some_left(self) -> "WindowRule":
        if self.leave >= self.requests:
            raise ValueError(f"leave = {self.leave} leaves nothing of {self.requests} requests")
        return self


class TierRule(Settings):
    """A tier of the requests in a calendar month."""

    upto: int | None = Field(
        None, ge=1, description="The number of the last request with this price. The last tier has none."
    )
    per_thousand: Decimal = Field(ge=0, description="The price of 1,000 requests; 0 is free.")

    @field_validator("per_thousand")
    @classmethod
    def _millionths(cls, amount: Decimal) -> Decimal:
        if amount * 1000 != int(amount * 1000):
            raise ValueError(f"{amount}: a request must cost whole millionths, so no more than three decimals")
        return amount


class PriceRule(Settings):
    """A price."""

    currency: str = Field(pattern="^[A-Z]{3}$", description="Code of ISO 4217, such as `EUR`.")
    since: date = Field(date.min, description="The first day on which it holds.")
    tiers: list[TierRule] = Field(
        min_length=1, description="Such as `[{ upto = 10000, per_thousand = 0 }, { per_thousand = 4.5 }]`."
    )

    @field_validator("currency")
    @classmethod
    def _in_use(cls, code: str) -> str:
        from iso4217 import Currency

        try:
            Currency(code)
        except ValueError as error:
            raise ValueError(f"{code!r} is not the code of a currency (ISO 4217)") from error
        return code

    @model_validator(mode="after")
    def _in_order(self) -> "PriceRule":
        ends = [tier.upto for tier in self.tiers]
        if ends[-1] is not None or None in ends[:-1]:
            raise ValueError("the last of the tiers, and no other, has no upto")
        known = [end for end in ends if end is not None]
        if known != sorted(set(known)):
            raise ValueError("the upto of each tier must be above that of the one before")
        return self

    def price(self) -> Price:
        tiers = tuple(Tier(tier.upto, int(tier.per_thousand * 1000)) for tier in self.tiers)
        return Price(self.currency, tiers, self.since)


class Allowance(Settings):
    account: str | None = Field(
        None, description="The account that requests are charged to. Default: the service's name."
    )
    per_second: float | None = Field(None, gt=0, description="The pace: requests a second. Default: no limit.")
    burst: int = Field(
        1,
        ge=1,
        description="The number of requests that may be sent at once after a pause: a second may contain "
        "`burst` - 1 more.",
    )
    parallel: int = Field(4, ge=1, le=256, description="The highest number of requests in flight at the same time.")
    per_day: int | None = Field(None, ge=1, description="Requests in a calendar day: the simplest window.")
    windows: list[WindowRule] = Field(default_factory=list, description="More windows. All of them hold.")
    caps: list[CapRule] = Field(default_factory=list, description="Your own limits, for all jobs.")
    prices: list[PriceRule] = Field(default_factory=list, description="Prices, in one currency.")
    zone: str = Field("UTC", description="IANA time zone of days, weeks and months.")
    tries: int = Field(4, ge=1, le=20, description="The highest number of requests for one question.")
    timeout_s: float = Field(20.0, gt=0, le=600, description="Seconds to wait for a reply.")

    @model_validator(mode="after")
    def _one_currency(self) -> "Allowance":
        if len({price.currency for price in self.prices}) > 1:
            raise ValueError("prices: an account is charged in one currency")
        if len({price.since for price in self.prices}) < len(self.prices):
            raise ValueError("prices: two hold from the same day")
        return self

    @model_validator(mode="after")
    def _each_once(self) -> "Allowance":
        spans = [(w.span, w.rolling) for w in self.windows] + ([(Span.DAY, False)] if self.per_day else [])
        if len(set(spans)) < len(spans):
            raise ValueError("two windows are the same: the smaller one is enough")
        return self

    @model_validator(mode="after")
    def _caps(self) -> "Allowance":
        check_caps(self.caps)
        if any(cap.money for cap in self.caps) and not self.prices:
            raise ValueError("caps: one of money needs prices")
        return self

    @field_validator("zone")
    @classmethod
    def _zone(cls, zone: str) -> str:
        try:
            ZoneInfo(zone)
        except (ZoneInfoNotFoundError, ValueError) as error:
            raise ValueError(f"{zone!r} is not an IANA time zone, such as UTC") from error
        return zone
