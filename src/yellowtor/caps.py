"""Caps: limits that people set themselves, in a job or, for all jobs, in the description of a service."""

from decimal import Decimal
from typing import Literal
from zoneinfo import ZoneInfo

from pydantic import Field, model_validator

from yellowtor.allowance.price import MILLION
from yellowtor.allowance.windows import Span, Window
from yellowtor.settings import Settings


class CapRule(Settings):
    """Your own limit for a calendar span: a number of requests or an amount of money."""

    requests: int | None = Field(None, ge=1, description="The highest number of requests.")
    money: Decimal | None = Field(
        None, gt=0, description="Or the highest amount of money, in the currency of the prices."
    )
    span: Span = Field(alias="in", description="One of: " + ", ".join(f"`{span}`" for span in Span) + ".")

    @model_validator(mode="after")
    def _one(self) -> "CapRule":
        if (self.requests is None) == (self.money is None):
            raise ValueError("a cap is either of requests or of money")
        return self

    def window(self, whose: Literal["own", "job's"], zone: ZoneInfo) -> Window:
        limit = self.requests if self.requests is not None else int((self.money or 0) * MILLION)
        return Window(limit, self.span, zone, money=self.money is not None, cap=whose)


def check_caps(caps: list[CapRule]) -> None:
    """Raise ValueError where two are the same."""
    if len({(cap.span, cap.money is None) for cap in caps}) < len(caps):
        raise ValueError("caps: two are the same; the smaller one is enough")
