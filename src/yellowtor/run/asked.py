"""What asking came to."""

from dataclasses import dataclass, field

from yellowtor.answers.kinds import Kind


@dataclass
class AskResult:
    """What asking came to. `stopped_by` is why it ended before the questions did, if it did."""

    sent: int = 0
    settled: int = 0
    retried: int = 0
    seconds: float = 0.0
    kinds: dict[Kind, int] = field(default_factory=dict)
    stopped_by: Kind | None = None
    message: str = ""
    resets_at: str = ""
    interrupted: bool = False
