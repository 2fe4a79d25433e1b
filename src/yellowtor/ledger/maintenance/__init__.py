"""Maintenance of a ledger: show, forget, expire, export, import."""
