"""Results of asking."""

from collections import Counter
from dataclasses import dataclass, field

from yellowtor.answers.replies.reply_kind import Kind

REFUSED = {Kind.KEY_REFUSED, Kind.NOT_PERMITTED}


@dataclass
class AskResult:
    """The result of asking one service: requests sent, requests as the quota counts them, questions settled.

    searched are the questions that a reference table was searched for: nothing was sent for these.
    cost is in millionths of currency. `stopped_by` is why it ended early, if it did; for_good: this run can't continue
    later either. left_open counts the questions without a reply, by reason.
    """

    service: str = ""
    sent: int = 0
    searched: int = 0
    counted: int = 0
    cost: int = 0
    currency: str = ""
    settled: int = 0
    retried: int = 0
    seconds: float = 0.0
    kinds: dict[Kind, int] = field(default_factory=dict)
    stopped_by: Kind | None = None
    message: str = ""
    resets_at: str = ""
    for_good: bool = False
    interrupted: bool = False
    left_open: Counter[str] = field(default_factory=Counter)
    differences: tuple[str, ...] = ()  # what the service said of its limits, where its description says something else


@dataclass(frozen=True)
class AskTotals:
    """The results of asking all services."""

    turns: tuple[AskResult, ...] = ()

    @property
    def sent(self) -> int:
        return sum(turn.sent for turn in self.turns)

    @property
    def searched(self) -> int:
        return sum(turn.searched for turn in self.turns)

    @property
    def costs(self) -> dict[str, int]:
        """What was spent, in millionths, by currency."""
        spent: dict[str, int] = {}
        for turn in self.turns:
            if turn.currency:
                spent[turn.currency] = spent.get(turn.currency, 0) + turn.cost
        return spent

    @property
    def counted(self) -> int:
        return sum(turn.counted for turn in self.turns)

    @property
    def retried(self) -> int:
        return sum(turn.retried for turn in self.turns)

    @property
    def seconds(self) -> float:
        return sum(turn.seconds for turn in self.turns)

    @property
    def kinds(self) -> Counter[Kind]:
        return sum((Counter(turn.kinds) for turn in self.turns), Counter[Kind]())

    @property
    def left_open(self) -> Counter[str]:
        """How many questions stay open because no reply came, by the reason."""
        return sum((turn.left_open for turn in self.turns), Counter[str]())

    @property
    def stopped(self) -> AskResult | None:
        """The first that could not be asked to its end."""
        return next((turn for turn in self.turns if turn.stopped_by), None)

    @property
    def refused(self) -> AskResult | None:
        """The first that would not have us."""
        return next((turn for turn in self.turns if turn.stopped_by in REFUSED), None)

    @property
    def interrupted(self) -> bool:
        return any(turn.interrupted for turn in self.turns)
