"""What people do to a ledger: look at it, forget, expire, export, import."""
