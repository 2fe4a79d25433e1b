"""Jobs and runs: the scan, judgements, pins, and what was written."""
