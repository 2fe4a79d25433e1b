"""Puts the real parts together, for the command line and the Python API: services, tables, ledger, markers."""
