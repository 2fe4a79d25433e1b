"""Delimited text, from files and standard input."""
