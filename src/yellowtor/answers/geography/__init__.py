"""Positions, distances, areas, levels and coordinates in text. Pure."""
