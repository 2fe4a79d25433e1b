"""The formats of reply bodies: a file for each, and a registry of them."""
