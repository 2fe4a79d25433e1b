"""Accounts: reservations, windows, pace, price, and what was used."""
