"""The job file: its settings, and the columns that a job maps answers to."""
