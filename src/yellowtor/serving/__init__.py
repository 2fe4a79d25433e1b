"""The web server of `review --serve`: on loopback only, for one person, with a token in its address. Knows HTTP."""
