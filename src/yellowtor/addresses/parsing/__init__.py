"""Parses addresses: words and their meanings (words/*.toml), countries, and typed parts of an address. Pure."""
