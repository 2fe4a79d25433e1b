"""The formats of marker files. Each module has open_file(target)."""
