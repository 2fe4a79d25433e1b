"""Runs the built program with a clock that runs faster by this factor: waits of hours are over in seconds.

python hurried.py TIMES yellowtor-arguments…
"""

import sys
from datetime import timedelta

from yellowtor.cli.main import main
from yellowtor.run.asking.cancellation import Cancellation
from yellowtor.run.clock import SystemClock

times = float(sys.argv.pop(1))
now, wait = SystemClock.now, Cancellation.wait
began = now(SystemClock())
SystemClock.now = lambda self: began + timedelta(seconds=(now(self) - began).total_seconds() * times)
Cancellation.wait = lambda self, seconds: wait(self, seconds / times)
main()
