"""A request from its reservation until it is sent."""

from yellowtor.answers.ledger_rows import Reserved
from yellowtor.run.asking.gate import Gate
from yellowtor.run.ports import Writer

PLACES = 5  # so often a request that is late for its place in the pace takes another


class Leaving:
    """Called, it waits for the request's place in the pace; False when it must not leave.

    left_at is the instant at which it left (seconds of the boot clock); 0 when it did not. number is how many had left
    by then, itself included, as the service counts them; units is how many of them it is.
    """

    def __init__(self, gate: Gate, writer: Writer, reserved: Reserved, units: int) -> None:
        self._gate = gate
        self._writer = writer
        self._reserved = reserved
        self.units = units
        self.left_at = 0.0
        self.number = 0

    async def __call__(self) -> bool:
        for chance in range(1, PLACES + 1):
            send_at = self._reserved.send_at
            last = chance == PLACES
            left_at = await self._gate.passed(send_at, late_or_not=last, units=self.units)
            if left_at is not None:
                self.left_at = left_at
                self.number = self._gate.left
                break
            self._reserved = await self._writer.postpone(self._reserved, self.units)
        return self.left_at > 0
