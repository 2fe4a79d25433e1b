"""The example's data, and how it is laid out."""
