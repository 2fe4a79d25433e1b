"""The verbs, one module each, over Protocols of the parts (ports.py). Does no input or output itself."""
