"""The commands as functions, one module each, over Protocols (ports.py). No input or output of its own."""
