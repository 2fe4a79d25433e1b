"""Types that all packages share, each defined once: what is asked about, where it is, how it ended, tables, clocks."""
