"""The command line: the only package that prints, prompts or exits."""
