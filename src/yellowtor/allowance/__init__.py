"""Pace, windows, price, forecast, and the decision to retry. Pure."""
