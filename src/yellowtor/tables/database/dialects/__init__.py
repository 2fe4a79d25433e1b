"""The databases that records can be in: a class for each, and a registry of them."""
